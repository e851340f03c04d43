# Files that two change at once: settings, claims and decisions

A toolchain can keep as text, which merges, what it keeps as bytes by itself; the survey says so until it is set.
pier:reef$ mkdir ProjectSettings && echo 'made by: 6' > ProjectSettings/ProjectVersion.txt && echo 'm_SerializationMode: 0' > ProjectSettings/EditorSettings.asset
pier:reef$ uncinate survey
  scenes as text
pier:reef$ echo 'm_SerializationMode: 2' > ProjectSettings/EditorSettings.asset && uncinate survey | grep -c text
  0
  (exit 1)
pier$ uncinate host add gannet --at {gannet}
pier$ uncinate vault make --by file
pier$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
pier:board$ printf 'low\nhigh\n' > levels.txt && printf '\x89PNG\x00\x01' > pier.png && uncinate attach --yes -q
Drawings cannot be merged, so they must be claimed before they are saved.
pier:board$ uncinate settings set claim.required '*.png' && uncinate sync --save -m "Drawings are claimed"
launch$ uncinate host add gannet --at {gannet}
launch$ uncinate vault make --by file
launch$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
launch$ uncinate clone board
pier:board$ uncinate claim create pier.png --reason "Drawing the new mooring"
launch:board$ printf '\x89PNG\x00\x02' > pier.png && uncinate save -m "Mine"
  claim
  (exit 3)
launch:board$ uncinate undo changes --yes -q && printf 'low\nhigher\n' > levels.txt && uncinate sync --save -m "Higher"
pier:board$ printf 'low\nhighest\n' > levels.txt && uncinate sync --save -m "Highest"
  levels.txt
  (exit 3)
pier:board$ uncinate settle mine levels.txt && uncinate sync && cat levels.txt
  highest
