# Sign-in with a code on the host's page, then all in one

pier$ uncinate host add gannet --at {gannet} && uncinate vault make --by file
pier& uncinate account add --host gannet --by device
  enter the code
page: tern
  Signed in; the sign-in renews itself from the vault.
pier:gauge$ echo 1 > a.txt && uncinate attach --yes
  Attached.
pier:gauge$ echo 2 > a.txt && uncinate sync --save -m "Again" && uncinate
  in step
