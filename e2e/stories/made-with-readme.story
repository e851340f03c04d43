# A repository that was made with a readme, ignore rules and a licence, and is joined

pier$ uncinate host add gannet --at {gannet}
pier$ uncinate vault make --by file
pier$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
pier$ uncinate repository create levels --readme --licence MIT --ignore python --description "Levels of the pier" --yes
  README.md
pier:levels$ echo 'print(3.41)' > level.py && echo '# My own levels' > README.md
Both sides have a README.md. It is asked what becomes of it, and nothing is overwritten unasked.
pier:levels$ uncinate attach --to tern/levels --yes
  README.md
  (exit 3)
pier:levels$ uncinate attach --to tern/levels --clash both --yes
  Attached.
  put beside
pier:levels$ ls && git log --format=%s
  LICENSE
  level.py
  Add the first files
