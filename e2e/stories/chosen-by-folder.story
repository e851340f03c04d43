# Files chosen by folder, and a check that stops a commit

pier$ uncinate host add gannet --at {gannet}
pier$ uncinate vault make --by file
pier$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
pier:gauge$ mkdir src notes && echo 'int level;' > src/a.c && echo private > notes/me.txt
pier:gauge$ uncinate attach --only src --yes
  Commit 1 file
pier:gauge$ git ls-files
  src/a.c
A hook of the project's own checks each commit; it runs once its person trusts it.
pier:gauge$ printf '#!/bin/sh\ngrep -q TODO src/a.c && echo "a TODO is left" && exit 1; exit 0\n' > .git/hooks/pre-commit && chmod +x .git/hooks/pre-commit
pier:gauge$ uncinate project trust --yes
  Trusted, until it changes.
pier:gauge$ echo '/* TODO */' >> src/a.c && uncinate save --only src -m "Half done"
  a TODO is left
  (exit 4)
pier:gauge$ echo 'int level; /* done */' > src/a.c && uncinate save --only src -m "Done" && git status --short
  ?? notes/
