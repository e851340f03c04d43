# A big old project without an identity, published privately, then two people with a branch each
demo: pier

Nobody ever told git on pier who Tern is, and the drawings are large and not text.
pier$ uncinate host add gannet --at {gannet}
pier$ uncinate vault make --by file
pier$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
pier:mooring-drawings$ uncinate survey
  mooring-drawings: 5 files, 13 MB would go up; 2 stay.
pier:mooring-drawings$ uncinate attach --yes
  Set the name and e-mail for its commits: Tern of Saltmarsh <tern@gannet.example>
  Create the private repository tern/mooring-drawings
  gannet holds the same commit, private
Knot is let in, and takes a branch of his own; so does Tern.
pier:mooring-drawings$ uncinate access grant knot --right write --yes
  Invite knot to write to tern/mooring-drawings
hut$ uncinate host add gannet --at {gannet}
hut$ uncinate vault make --by file
hut$ uncinate account add knot --host gannet --user knot
<< {token knot gannet}
hut$ uncinate invitation accept tern/mooring-drawings --yes && uncinate clone tern/mooring-drawings
hut:mooring-drawings$ uncinate branch make south-pier --switch && echo south > south.txt && uncinate sync --save -m "Draw the south pier"
  Sent 1 commit.
pier:mooring-drawings$ uncinate branch make north-pier --switch && echo north > north.txt && uncinate sync --save -m "Draw the north pier"
pier:mooring-drawings$ uncinate branch list
  north-pier
  south-pier
