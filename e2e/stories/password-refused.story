# A password refused, a token instead, and thousands of generated files down to dozens
demo: pier

pier$ uncinate host add gannet --at {gannet} && uncinate vault make --by file
pier$ uncinate account add tern --host gannet
<< seven-tall-masts
  A password is of no use here.
  (exit 2)
pier$ uncinate account add tern --host gannet
<< {token tern gannet}
  The token works and is in the vault.
pier:gauge-firmware$ find . -type f | wc -l
  20
pier:gauge-firmware$ uncinate survey
  stay
pier:gauge-firmware$ uncinate attach --yes
  stay
  Attached.
pier:gauge-firmware$ git ls-files | wc -l
  6
