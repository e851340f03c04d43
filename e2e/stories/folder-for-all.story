# The folder for all repositories

pier$ uncinate host add gannet --at {gannet}
pier$ uncinate vault make --by file
pier$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
pier:a$ echo 1 > a.txt && uncinate attach --name alpha --yes -q && mkdir ../b && cd ../b && echo 2 > b.txt && uncinate attach --name beta --yes -q
launch$ uncinate host add gannet --at {gannet}
launch$ uncinate vault make --by file
launch$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
launch$ uncinate settings set clone.layout flat
launch$ uncinate clone --everything --into work
  2 repositories cloned.
launch$ ls work
  alpha
  beta
Once more brings what is new, and leaves the rest as it is.
launch$ uncinate clone --everything --into work
  already
launch$ uncinate status --all
  2 projects, all in step.
