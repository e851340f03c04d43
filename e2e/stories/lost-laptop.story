# A lost laptop

On the laptop, Tern signs in on the host's page and makes a key, each of which bears the machine's name.
launch$ uncinate settings set machine launch && uncinate host add gannet --at {gannet} && uncinate vault make --by file
launch& uncinate account add tern --host gannet --by device
  enter the code
page: tern
  Signed in
launch$ uncinate key make tern --open && uncinate key install tern --yes
pier$ uncinate settings set machine pier && uncinate host add gannet --at {gannet} && uncinate vault make --by file
pier$ uncinate account add tern --host gannet
<< {token tern gannet}
The laptop is gone. On the other machine, what it could open is closed.
pier$ uncinate key list
  launch
pier$ uncinate token revoke --machine launch --yes
  launch
pier$ uncinate key revoke --machine launch --yes
pier$ uncinate key list
  There is no SSH key
launch$ uncinate token test tern
  bad
  (exit 1)
