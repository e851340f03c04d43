# Plans compared, keys, people, protected branches, rename, transfer and deletion
hosts: gannet petrel

pier$ uncinate host add gannet --at {gannet}
pier$ uncinate vault make --by file
pier$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
pier$ uncinate host add petrel --at {petrel} && uncinate host compare
  petrel
pier:gauge$ echo 1 > a.txt && uncinate attach --yes -q
pier$ uncinate key make tern --open && uncinate key list
  tern
pier:gauge$ uncinate access grant knot --yes && uncinate access list
  knot
pier:gauge$ uncinate repository protect main --yes && git push -q origin :main
  (exit 1)
pier:gauge$ uncinate repository change tern/gauge --name level --yes && uncinate sync
pier$ uncinate repository transfer tern/level saltmarsh --yes
  Handed over, and checked with gannet.
pier$ uncinate repository delete saltmarsh/level --yes
  copy
