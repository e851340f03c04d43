# Moving to another host
hosts: gannet petrel

pier$ uncinate host add gannet --at {gannet}
pier$ uncinate vault make --by file
pier$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
pier:gauge$ git init -q -b main && echo 1 > a.txt && uncinate attach --yes -q && git tag v1 && git branch side && git push -q origin v1 side
pier$ uncinate host add petrel --at {petrel}
pier$ uncinate account add tern-petrel --host petrel --user tern
<< {token tern petrel}
pier:gauge$ uncinate attach --move --account tern-petrel --preview
  petrel
pier:gauge$ uncinate attach --move --account tern-petrel --yes
  petrel holds
The old one stays until its person removes it, and is kept as a rescue copy then.
pier:gauge$ git remote -v && git ls-remote -q origin
  refs/heads/side
  refs/tags/v1
pier$ uncinate repository delete tern/gauge --account tern --yes
