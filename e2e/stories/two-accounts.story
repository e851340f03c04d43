# Two accounts on one host, and the wrong one used

pier$ uncinate host add gannet --at {gannet}
pier$ uncinate vault make --by file
pier$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
pier$ uncinate account add tern-own --host gannet
<< {token tern-own gannet}
  in the vault
pier:diary$ echo dear > diary.txt && uncinate attach --yes
  As tern-own on gannet:
  (exit 3)
pier:diary$ uncinate attach --account tern --yes -q && uncinate status
  tern
It was to be the other one's. The repository moves over; nothing is lost.
pier:diary$ uncinate attach --move --account tern-own --yes
  tern-own/diary
pier:diary$ git log -1 --format=%ae && git config --get user.email && uncinate repository delete tern/diary --account tern --yes -q
pier:diary$ echo more >> diary.txt && uncinate sync --save -m "More" && uncinate status
  tern-own
