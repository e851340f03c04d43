# Git is missing, of two versions, and moved

pier$ mkdir bin && for p in bash ls cat mkdir dirname; do ln -s "$(command -v $p)" bin/; done; ln -s "$(command -v uncinate)" bin/
pier:gauge$ echo 1 > a.txt; PATH=$HOME/bin uncinate status
  git
  (exit 1)
An old one is found first, which is shown here by a program that says what an old one says.
pier$ printf '#!/bin/sh\necho git version 2.17.1\n' > bin/git && chmod +x bin/git
pier:gauge$ PATH=$HOME/bin uncinate status
  is too old
  (exit 1)
A newer one lies elsewhere, and is found too. It is named once, and used from then on.
pier$ mkdir -p opt/git && ln -s "$(command -v git)" opt/git/git
pier:gauge$ PATH=$HOME/bin:$HOME/opt/git uncinate status
  opt/git/git
  (exit 1)
pier$ PATH=$HOME/bin uncinate settings set git $HOME/opt/git/git
pier:gauge$ PATH=$HOME/bin uncinate ready
  opt/git/git
It moves away, and the setting leads nowhere.
pier$ mv opt/git opt/git-2
pier:gauge$ PATH=$HOME/bin uncinate ready
  settings
  (exit 1)
pier:gauge$ uncinate settings unset git && uncinate ready
  good git
