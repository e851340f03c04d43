# A server that follows a branch
demo: pier

pier$ uncinate host add gannet --at {gannet}
pier$ uncinate vault make --by file
pier$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
pier:inlet-board$ uncinate attach --yes
  Attached.
hut$ uncinate host add gannet --at {gannet}
hut$ uncinate vault make --by file
hut$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
hut$ uncinate deploy make tern/inlet-board www --over https --yes
  The tasks of
  wait for approval; nothing of them ran.
hut$ uncinate deploy approve www --yes
hut$ grep -c '<h1>' www/public/index.html
  1
pier:inlet-board$ sed -i s/3.41/3.55/ site/index.html && uncinate sync --save -m "The level rose"
hut$ uncinate deploy update www && grep -o '3...' www/public/index.html
  3.55
Something is wrong with it: back, in a moment.
hut$ uncinate deploy back www && grep -o '3.4.' www/public/index.html
  3.41
hut$ uncinate deploy list
  www
