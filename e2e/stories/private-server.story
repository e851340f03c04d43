# A private server, a token of two weeks with the least scopes, an offer merged and its branch removed
hosts: petrel

pier$ uncinate host add petrel --at {petrel} && uncinate vault make --by file
pier$ uncinate account add tern --host petrel --may publish --may offers
<< {token tern petrel hear,feed,dig,flock 14}
  expires on
pier:gauge$ echo 3 > level.txt && uncinate attach --yes
  petrel holds the same commit
pier:gauge$ uncinate branch make finer --switch && echo 3.41 > level.txt && uncinate save -m "Read finer"
pier:gauge$ uncinate offer create --title "Finer levels" --yes
  Offered as number 1
pier:gauge$ uncinate offer list
  Finer levels
pier:gauge$ uncinate offer show 1
  merges cleanly
pier:gauge$ uncinate offer accept 1 --remove-branch --yes
  Accepted, and checked with petrel.
pier:gauge$ uncinate sync && uncinate branch list && cat level.txt
  main
  3.41
