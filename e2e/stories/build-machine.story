# A build machine: no question, nothing kept

pier$ uncinate host add gannet --at {gannet}
pier$ uncinate vault make --by file
pier$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
pier:gauge$ echo 'all: ; @echo built' > Makefile && uncinate attach --yes -q
The token comes in on standard input, is held in memory, and may only read.
hut$ uncinate host add gannet --at {gannet} --json | grep name
hut$ uncinate account add robot --host gannet --may read --in-memory --json | grep user
<< {token tern gannet self,look 7}
  tern
hut$ uncinate clone tern/gauge --read-only --depth 1 --json | grep -c '"folder"'
  1
hut:gauge$ make
  built
hut:gauge$ uncinate sync --json | grep '"branch"'
hut:gauge$ echo x > x.txt; uncinate sync --save -m "No" --json; echo "exit $?"
  exit
hut$ uncinate clone tern/no-such --json; echo "exit $?"
  exit 5
hut$ uncinate token forget robot; grep -rlE 'plunge~[0-9a-f]' .uncinate | wc -l
  0
