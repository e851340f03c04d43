# Paste this into bash once, as root, with the program on the PATH; then paste a story. The plain
# server is not in it: almanac goes to the practice host alone.
story_begin() {
  top=$(mktemp -d) && cd "$top" || return
  mkdir homes && mount -t tmpfs -o size=96m tmpfs homes
  uncinate practice gannet --keep "$top/host" --json >practice.json & practice=$!
  until [ -s practice.json ]; do sleep 0.1; done; sleep 0.5
  host=$(sed -n 's/.*"at": *"\([^"]*\)".*/\1/p' practice.json | head -n 1)
  local m user
  for m in pier launch hut; do
    user=tern; [ $m = hut ] && user=knot
    mkdir -p "homes/$m"
    on $m . uncinate host add gannet --at "$host"
    on $m . uncinate vault make --by file
    tr '{' '\n' <practice.json | tr -d '\n ' | sed 's/"user"/\n&/g' | sed -n "s/^\"user\":\"$user\",\"token\":\"\([^\"]*\)\".*/\1/p" |
      on $m . uncinate account add --host gannet --user $user
  done
  local p i
  for p in gauge almanac; do
    mkdir -p homes/pier/$p/{src,tables}
    echo "# $p" >homes/pier/$p/README.md
    printf '*.log\n*.o\nbuild/\n' >homes/pier/$p/.gitignore
    for i in 0 1 2 3 4 5 6 7; do
      echo "note $i" >>homes/pier/$p/notes.txt; echo "level $i" >>homes/pier/$p/src/level.c; echo "may $i" >>homes/pier/$p/tables/may.csv
    done
    on pier $p uncinate attach --name saltmarsh/$p --yes
  done
  on pier gauge git checkout -q -b deck
  for i in 0 1 2 3 4 5 6 7; do echo "deck $i" >>homes/pier/gauge/deck.txt; done
  on pier gauge git add -A; on pier gauge git commit -q -m Deck; on pier gauge git push -q -u origin deck; on pier gauge git checkout -q main
  for m in launch hut; do for p in gauge almanac; do on $m . uncinate clone saltmarsh/$p $p; done; done
}
on() { local m=$1 f=$2; shift 2; (cd "$top/homes/$m/$f" && HOME=$top/homes/$m UNCINATE_HOME=$top/homes/$m/.uncinate GIT_CONFIG_NOSYSTEM=1 GIT_EDITOR=true "$@"); }
at() { on "$@"; }
story_step() { local w; eval "w=($1)"; "${w[@]}"; }
made() { mkdir -p "$(dirname -- "$top/homes/$1")"; }
put() { made "$1"; [ -L "$top/homes/$1" ] && rm -- "$top/homes/$1"; printf '%s\n' "${@:2}" >"$top/homes/$1"; }
noise() { made "$1"; { printf '\211\000\001'; for _ in {1..40}; do echo "$2"; done; } >"$top/homes/$1"; }
mode() { chmod -- "$2" "$top/homes/$1"; }
gone() { rm -rf -- "$top/homes/$1"; }
folder() { mkdir -p -- "$top/homes/$1"; }
link() { made "$1"; ln -sfn -- "$2" "$top/homes/$1"; }
name() { made "$2"; [ -e "$top/homes/$2" ] || mv -- "$top/homes/$1" "$top/homes/$2"; }
double() { [ -e "$top/homes/$2" ] || cp -a -- "$top/homes/$1" "$top/homes/$2"; }
# touch is the shell's own word, and takes a path from the homes here.
touch() { command touch -c -- "$top/homes/$1"; }
story_cut() { # alone|all milliseconds, then a run
  local who=$1 after=$2 m=$4 f=$5; shift 5
  (cd "$top/homes/$m/$f" && HOME=$top/homes/$m UNCINATE_HOME=$top/homes/$m/.uncinate GIT_CONFIG_NOSYSTEM=1 GIT_EDITOR=true \
    setsid bash -c 'echo $$ >"$0"; exec "$@"' "$top/pid" "$@") & local run=$!
  sleep "$(printf '%d.%03d' $((after / 1000)) $((after % 1000)))"
  if [ "$who" = all ]; then pkill -KILL -s "$(cat "$top/pid")"; else kill -KILL "$(cat "$top/pid")"; fi
  wait $run; sleep 0.5
}
cut() { story_cut "$1" "$3" "${@:4}"; "${@:4}"; }
cut-then() { story_cut "$1" "$3" "${@:5}"; local w; eval "w=($4)"; on "${@:6:2}" "${w[@]}"; "${@:5}"; }
both() { local w; eval "w=($1)"; on "${w[@]}" & "${@:2}"; wait $!; }
writing() {
  local p=$1; shift
  (n=0; while :; do echo "written-$n" 2>/dev/null >>"$top/homes/$p"; n=$((n + 1)); sleep 0.001; done) & local w=$!
  "$@"; kill $w
}
asked() { (sleep 3; eval "$1"; echo yes; sleep 1; echo yes; sleep 1) | on "$3" "$4" script -qec "$(printf '%q ' "${@:5}")" /dev/null; }
faults() { curl -sS -X PUT -d "$1" "$host/control/faults" >/dev/null; }
fault() { faults "[\"$1\"]"; "${@:2}"; faults '[]'; "${@:2}"; }
room() { fallocate -l $(($(df --output=avail -k "$top/homes" | tail -n 1) - $1))k "$top/homes/filler"; "${@:2}"; rm -f -- "$top/homes/filler"; "${@:2}"; }
story_begin
