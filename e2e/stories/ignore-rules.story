# Ignore rules of several kinds merged

pier:station$ mkdir -p web/node_modules/x tools && echo '{"name":"board"}' > web/package.json && echo x > web/node_modules/x/i.js
pier:station$ echo 'print(1)' > tools/read.py && mkdir tools/__pycache__ && echo x > tools/__pycache__/read.cpython-312.pyc && echo '*.log' > .gitignore
pier:station$ uncinate ignore suggest
  __pycache__/
  node_modules/
pier:station$ uncinate ignore add --suggested && cat .gitignore
  *.log
  node_modules/
pier:station$ uncinate ignore explain web/node_modules/x/i.js
  .gitignore
