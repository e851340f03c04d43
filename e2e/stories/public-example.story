# A stranger's public example from its page's address, kept up to date

pier$ uncinate host add gannet --at {gannet}
pier$ uncinate vault make --by file
pier$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
pier:example$ echo try > this.txt && uncinate attach --visibility public --yes
Dunlin has no account there and no vault. The page's address is enough.
launch$ uncinate host add gannet --at {gannet}
launch$ uncinate clone {gannet}/tern/example --read-only
  example
launch:example$ echo mine > note.txt
pier:example$ echo more > more.txt && uncinate sync --save -m "More"
launch:example$ uncinate sync && ls
  more.txt
  note.txt
