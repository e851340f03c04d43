# A repository that was made empty on the host first

pier$ uncinate host add gannet --at {gannet}
pier$ uncinate vault make --by file
pier$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
pier$ uncinate repository create levels --yes
  Created, and checked with gannet.
pier:levels$ echo 3.41 > pier.txt
Its name is enough; nothing new is made on the host.
pier:levels$ uncinate attach --to tern/levels --yes
  Send branch main
  gannet holds the same commit
pier:levels$ uncinate attach --yes
  Already attached; nothing was changed.
pier:levels$ uncinate
  in step
