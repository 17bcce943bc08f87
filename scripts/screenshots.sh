#!/bin/bash
# Takes a picture of each main view with the demo field: scripts/screenshots.sh FOLDER
set -eu
cd "$(dirname "$0")/.."
. scripts/screen.sh
out=${1:-docs/screenshots}
mkdir -p "$out"
LANTERNFIELD_STATE=$(mktemp -d)
export LANTERNFIELD_STATE
file=$LANTERNFIELD_STATE/files/saltmarsh-ferries.field.yaml
home() { press Left Left Left Left Left Left Left Left Left; }
lf() { bin/lanternfield "$@"; }
finish() {
	screen_close
	lf retire "$file" --yes --forget >/dev/null 2>&1 || true
	rm -rf "$LANTERNFIELD_STATE"
}
trap finish EXIT

screen_open bin/lanternfield demo
press Down Right Left Up
shot "$out/board-draft.png"
press v
shot "$out/review.png"
press d
lf status "$file" --wait converged >/dev/null
sleep 8
shot "$out/board-lit.png"
leader=$(lf status "$file" --json | sed -n 's/^ *"leader": "\(.*\)",*/\1/p' | head -1)
pid=$(lf status "$file" --json | awk -v m="\"$leader\"," '$2 == m && /"member"/ {found = 1} found && /"pid"/ {gsub(",", "", $2); print $2; exit}')
home # the role's name; its members stand on the first, the fourth and the seventh post
case $leader in *-1) press Right ;; *-2) press Right Right Right Right ;; *) press Right Right Right Right Right Right Right ;; esac
kill -9 "$pid"
sleep 0.2
shot "$out/board-dark.png"
lf status "$file" --wait converged >/dev/null
# Voters that join: each takes a while to start, so that it can be seen.
sed -i '/kit: warden$/a\    settings: {start_delay: 4s}' "$file"
home
press plus plus
sleep 1.2
press v
sleep 0.5
shot "$out/review-voters.png"
press Escape
lf scale "$file" wardens 5 --yes >/dev/null &
sleep 1
home
press Right Right Right Right Right
sleep 1
shot "$out/board-joining.png"
wait $!
press question
shot "$out/keys.png"
press Escape q
screen_close

SCREEN_COLORS=light screen_open bin/lanternfield open "$file"
sleep 2
shot "$out/board-light.png"
press q
screen_close

SCREEN_CELLS=80x24 screen_open bin/lanternfield open "$file"
sleep 2
shot "$out/board-80x24.png" 640x480+0+0
press q
