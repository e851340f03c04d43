# A secret under a passphrase on one's own machine, and none at all on a shared one

launch$ uncinate host add gannet --at {gannet}
launch$ uncinate vault make --by passphrase
<< seven tall masts
  open until
launch$ uncinate account add tern --host gannet
<< {token tern gannet}
  in the vault
launch$ uncinate vault lock && uncinate vault show
  locked
launch$ uncinate vault unlock && uncinate token test tern
<< seven tall masts
  good
On the office's shared machine nothing is written: it is forgotten with the session.
pier$ uncinate host add gannet --at {gannet}
pier$ uncinate account add tern --host gannet --in-memory
<< {token tern gannet}
  held in memory for this session only
pier$ uncinate token forget tern; grep -rlE 'plunge~[0-9a-f]' .uncinate | wc -l
  0
