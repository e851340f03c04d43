# A remote for a project that has a history

pier$ uncinate host add gannet --at {gannet}
pier$ uncinate vault make --by file
pier$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
pier:gauge$ git init -q -b main && git config user.name Tern && git config user.email tern@saltmarsh.example
pier:gauge$ for n in 1 2 3; do echo $n > level.txt; git add .; git commit -qm "Reading $n"; done; git tag v1; git branch side HEAD~1
pier:gauge$ uncinate attach --preview
  Create the private repository tern/gauge on gannet
  Send branch main
pier:gauge$ uncinate attach --branches --yes
  Attached.
  v1
pier:gauge$ git ls-remote -q origin | wc -l
  3
pier:gauge$ uncinate history
  Reading 3
