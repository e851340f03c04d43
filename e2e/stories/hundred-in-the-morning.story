# Many projects in the morning

pier$ uncinate host add gannet --at {gannet}
pier$ uncinate vault make --by file
pier$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
pier$ for n in $(seq 12); do mkdir p$n; echo $n > p$n/a.txt; (cd p$n; uncinate attach --yes -q) || exit 1; done
launch$ uncinate host add gannet --at {gannet}
launch$ uncinate vault make --by file
launch$ uncinate account add tern --host gannet --user tern
<< {token tern gannet}
launch$ uncinate settings set clone.layout flat && uncinate clone --everything --into work -q
launch$ for n in 3 7; do (cd work/p$n; echo more >> a.txt; uncinate sync --save -m More -q); done
pier$ echo mine > p5/mine.txt
pier$ uncinate status --all
  behind
  p3
  12 projects, 9 in step.
pier$ uncinate sync --all
  received 1 commit
  2 now in step.
pier$ uncinate status --all
  p5
  12 projects, 11 in step.
