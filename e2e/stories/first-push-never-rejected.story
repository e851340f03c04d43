# The rejected first push that never happens

pier$ uncinate host add gannet --at {gannet}
pier$ uncinate vault make --by file
pier$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
pier$ uncinate repository create gauge --readme --yes
Git alone refuses here: the host has a commit that is not known.
pier:gauge$ git init -q -b main && echo level > a.txt && git add . && git -c user.name=Tern -c user.email=t@x.example commit -qm First
pier:gauge$ uncinate attach --to tern/gauge --preview
  1 commit
pier:gauge$ uncinate attach --to tern/gauge --yes
  Attached.
  gannet holds the same commit
pier:gauge$ git log --format=%s
  First
  Add the first files
pier:gauge$ uncinate sync
  In step: nothing new on either side.
