# A public clone on a branch, with what lies inside it

pier$ uncinate host add gannet --at {gannet}
pier$ uncinate vault make --by file
pier$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
pier:parts$ echo bolt > bolt.txt && uncinate attach --visibility public --yes -q
pier:tower$ git init -q -b main && git -c protocol.file.allow=always submodule add -q {gannet}/tern/parts.git parts && echo 1 > a.txt && uncinate attach --visibility public --yes -q
pier:tower$ uncinate branch make winter --switch && echo snow > b.txt && uncinate sync --save -m "For winter" -q
launch$ uncinate host add gannet --at {gannet} && uncinate clone {gannet}/tern/tower --branch winter --submodules
  winter
launch:tower$ cat b.txt parts/bolt.txt
  snow
  bolt
