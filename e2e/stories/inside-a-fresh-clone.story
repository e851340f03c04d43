# A project that is made inside a fresh clone, because its toolchain wants an empty folder

pier$ uncinate host add gannet --at {gannet}
pier$ uncinate vault make --by file
pier$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
pier$ uncinate repository create gauge --yes && uncinate clone gauge
  Cloned.
pier:gauge$ uncinate
  nothing to send yet
A toolchain writes its first files; git's own folder does not disturb it.
pier:gauge$ printf 'module gauge\n' > gauge.mod && printf 'main\n' > main.txt
pier:gauge$ uncinate sync --save -m "Begin"
  Sent 1 commit.
pier:gauge$ uncinate status
  all saved
  in step
