# Checkpoints, and everything taken back

pier$ uncinate host add gannet --at {gannet}
pier$ uncinate vault make --by file
pier$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
pier:gauge$ echo one > level.txt && uncinate attach --yes && echo two > level.txt && uncinate save -m "Second"
pier:gauge$ echo three > level.txt && uncinate save -m "Third" && echo spoilt > level.txt
What is not saved goes first, then the newest commit. Both are kept for 90 days.
pier:gauge$ uncinate undo changes --yes && cat level.txt
  three
pier:gauge$ uncinate undo commit --yes && uncinate history
  Second
pier:gauge$ uncinate undo file level.txt --to HEAD~1 --yes && cat level.txt
  one
pier:gauge$ uncinate rescue list
  undo
pier:gauge$ uncinate rescue show 1
  level.txt
