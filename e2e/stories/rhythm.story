# The rhythm of save, receive and send, with a version at the end

pier$ uncinate host add gannet --at {gannet}
pier$ uncinate vault make --by file
pier$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
pier:gauge$ echo 1 > a.txt && uncinate attach --yes -q
launch$ uncinate host add gannet --at {gannet}
launch$ uncinate vault make --by file
launch$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
launch$ uncinate clone gauge
launch:gauge$ echo 2 > b.txt && uncinate sync --save -m "Aboard"
  Sent 1 commit.
pier:gauge$ echo 3 > c.txt && uncinate save -m "On the pier"
pier:gauge$ uncinate
  new commits on the host, and 1 commit not sent
  uncinate sync
pier:gauge$ uncinate sync
  Received 1 commit, and sent 1 commit on top of it.
pier:gauge$ uncinate tag make 1.0.0 -m "The first that measures" && uncinate tag list
  1.0.0
launch:gauge$ uncinate sync && git tag && uncinate history
  1.0.0
