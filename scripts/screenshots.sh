#!/bin/bash
# Takes a picture of each main view with the demo field: scripts/screenshots.sh FOLDER
set -eu
cd "$(dirname "$0")/.."
. scripts/screen.sh
out=${1:-docs/screenshots}
mkdir -p "$out"
LANTERNFIELD_STATE=$(mktemp -d)
LANTERNFIELD_OWNER_KEY=$LANTERNFIELD_STATE/owner.key
export LANTERNFIELD_STATE LANTERNFIELD_OWNER_KEY
file=$LANTERNFIELD_STATE/files/saltmarsh-ferries.field.yaml
home() { press Home Prior Left; } # the first role; its members stand to the right
lf() { bin/lanternfield "$@"; }
finish() {
	screen_close
	lf retire "$file" --yes --forget >/dev/null 2>&1 || true
	rm -rf "$LANTERNFIELD_STATE"
}
trap finish EXIT

member_pid() { lf status "$file" --json | awk -v m="\"$1\"," '$2 == m && /"member"/ {found = 1} found && /"pid"/ {gsub(",", "", $2); print $2; exit}'; }

# The guided start, half-way through its questions, in a folder of its own.
new=$(mktemp -d)
here=$PWD
screen_open sh -c "cd $new && exec $here/bin/lanternfield new"
sleep 3
press Return Return Return
shot "$out/start.png"
press Escape Escape Escape Escape
screen_close
rmdir "$new"

screen_open bin/lanternfield demo
press Down Right Left Up
shot "$out/board-draft.png"
press v
shot "$out/review.png"
press Escape 5 Right
shot "$out/order.png"
press 6
sleep 2
shot "$out/nodes.png"
press 1
home
press Down Down Down Right Right F Tab
sleep 0.5
shot "$out/files.png"
press Escape c Down Down Down Down Down
shot "$out/sheet.png"
press Escape v d
lf status "$file" --wait converged >/dev/null
sleep 8
home
press Down Down Down Right Right
shot "$out/board-lit.png"
home
press Up Up Right w # what if the middle zone failed
press Right
shot "$out/board-what-if.png"
press Escape
leader=$(lf status "$file" --json | sed -n 's/^ *"leader": "\(.*\)",*/\1/p' | head -1)
kill -9 "$(member_pid "$leader")"
sleep 0.2
press period # to what is dark
shot "$out/board-dark.png"
lf status "$file" --wait converged >/dev/null
press braceleft bracketright bracketright
sleep 0.5
shot "$out/board-past.png"
press n 4
sleep 1.2
press Up Up Up Up Up Up
shot "$out/journal.png"
press n 7 Down
sleep 0.5
shot "$out/access.png"
press 3
sleep 3
shot "$out/health.png"
press 1
# A draft with something wrong in it, and what mends it.
home
press minus
sleep 0.5
press f Down
shot "$out/findings.png"
press Escape u
# Voters that join: each takes a while to start, so that it can be seen.
sed -i '/kit: warden$/a\    settings: {start_delay: 4s}' "$file"
sleep 1.5
home
press plus plus
sleep 1.2
lf scale "$file" wardens 5 --yes >/dev/null &
sleep 1
press 2
sleep 5
press period
sleep 1.5
shot "$out/rollout.png"
press 1
wait $!
press q
screen_close

SCREEN_COLORS=light screen_open bin/lanternfield open "$file"
sleep 2
press Up Up
shot "$out/board-light.png"
press q
screen_close

SCREEN_CELLS=80x24 screen_open bin/lanternfield open "$file"
sleep 2
shot "$out/board-80x24.png" 640x480+0+0
press q
screen_close

# Eighty nodes with two hundred members, of which some have just been killed.
many=$LANTERNFIELD_STATE/coast.field.yaml
cat >"$many" <<'EOF'
format: 1
field: saltmarsh-coast
nodes:
  - {name: "gull-{1..30}", zone: north-quay, size: {cpu: 4, memory: 8GiB}}
  - {name: "tern-{1..30}", zone: south-quay, size: {cpu: 4, memory: 8GiB}}
  - {name: "puffin-{1..20}", zone: lighthouse, size: {cpu: 4, memory: 8GiB}}
roles:
  wardens: {kind: master, members: 5, spread: zone, room: {cpu: 1, memory: 1GiB}, program: {command: [sleep, "6000"]}}
  relays: {kind: broker, members: 12, after: {wardens: 3}, room: {cpu: 0.5}, program: {command: [sleep, "6000"]}}
  crews: {kind: worker, members: 160, room: {cpu: 1, memory: 2GiB}, calls: {queue: relays}, program: {command: [sleep, "6000"]}}
  pier: {kind: entry, members: 4, calls: {behind: relays}, program: {command: [sleep, "6000"]}}
EOF
lf deploy "$many" --yes --timeout 100s >/dev/null
screen_open bin/lanternfield open "$many"
sleep 3
press Down Down Right
for n in 3 9 27 81; do
	kill -9 "$(lf status "$many" --json | awk -v m="\"crews-$n\"," '$2 == m && /"member"/ {f = 1} f && /"pid"/ {gsub(",", "", $2); print $2; exit}')"
done
sleep 0.2
shot "$out/board-many.png"
press q
lf retire "$many" --yes --forget >/dev/null
