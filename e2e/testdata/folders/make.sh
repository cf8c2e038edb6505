#!/bin/sh
# Makes the data folder that a program of long ago leaves behind: a push that waits
# to be confirmed, one whose restart is left to a person, one that is planned, and a
# restore under way when the service was killed; with sealed logs, previews and
# results. TestOlderFolders brings each up under the program as it is now.
#
#   sh make.sh COMMIT NAME     from this folder; writes NAME.tar.gz
set -eu
commit=$1 name=$2 here=$(pwd)
work=$(mktemp -d)
trap 'kill $(jobs -p) 2>/dev/null || true; git worktree remove --force "$work/src"; rm -rf "$work"' EXIT
git worktree add --detach "$work/src" "$commit"
(cd "$work/src" && go build -o "$work/" ./cmd/...)
export HOME="$work" MAGPIE_DEVICE_PASSWORD=demo-nest-1 MAGPIE_DEVICE_RAISE=demo-mast-1 MAGPIE_DEVICE_PRIVILEGED_SECRET=demo-mast-1
m="$work/magpie"
wait_for() { for _ in $(seq 600); do grep -qE "$1" "$2" && return; sleep 0.1; done; echo "never: $1"; cat "$2"; exit 1; }

"$work/magpie-sim" -data "$work/fleet" -devices 4 -families plover >"$work/sim.log" 2>&1 &
wait_for 'control at' "$work/sim.log"
sim=$(sed -n 's/.*control at \(http[^ ]*\).*/\1/p' "$work/sim.log")
"$m" serve --listen 127.0.0.1:0 --data "$work/data" >"$work/serve.log" 2>&1 &
service=$!
wait_for 'is up at' "$work/serve.log"
url=$(sed -n 's/.*is up at \(http[^ ]*\).*/\1/p' "$work/serve.log")
"$m" login "$url" --user admin <"$work/data/admin.password" >/dev/null 2>&1 || MAGPIE_PASSWORD=$(cat "$work/data/admin.password") "$m" login "$url" --user admin
curl -s "$sim/devices" >"$work/places.json"
python3 - "$work/places.json" >"$work/places" <<'P'
import json, sys
for p in json.load(open(sys.argv[1])):
    print(p["name"], p["address"], p["port"], p["family"])
P
while read -r device address port family; do
  "$m" device add "$device" --address "$address" --port "$port" --dialect "$family" --user magpie --yes --untried --accept-key "$(ssh-keyscan -p "$port" "$address" 2>/dev/null | ssh-keygen -lf - | cut -d' ' -f2)" </dev/null
done <"$work/places"
amend() { curl -sf -o /dev/null -X POST "$sim/devices/$1/amend" -d "{\"by\":\"mwilks\",\"lines\":[$2]}"; curl -sf -o /dev/null -X POST "$sim/devices/$1/stow"; }
set -- $(grep tern "$work/places" | cut -d' ' -f1)
waits=$1 planned=$2 first=$3 second=$4
staged=$(grep plover "$work/places" | head -1 | cut -d' ' -f1)
"$m" pull all
for d in "$@"; do amend "$d" '"lane quay1","note \"by hand\""'; done
amend "$staged" '"port 3 : label is <by hand>"'
"$m" pull all
"$m" push "$waits@1" --yes --within 24h </dev/null >"$work/waits.log" 2>&1 &
wait_for 'waiting: ' "$work/waits.log"
"$m" push "$staged@1" --yes --method stage --hold-restart </dev/null
"$m" push "$planned@1" --yes --from "$(date -u -d '+360 days' +%Y-%m-%dT%H:%M)" --until "$(date -u -d '+364 days' +%Y-%m-%dT%H:%M)" --zone UTC </dev/null >"$work/planned.log" 2>&1 &
wait_for 'planned as job' "$work/planned.log"
curl -sf -o /dev/null -X POST "$sim/devices/$first/faults" -d '{"hold_line":2}'
"$m" restore "name=$first" "name=$second" --to 1 --yes </dev/null >"$work/restore.log" 2>&1 &
for _ in $(seq 300); do curl -s "$sim/devices/$first" | grep -q '"holding":true' && break; sleep 0.1; done
"$m" --json job list --limit 100 >"$work/jobs.json"
socket=$work/data/db.sock
kill -9 "$service"
mariadb-dump --socket "$socket" --hex-blob --skip-comments --databases magpie | sed '/^USE \|^CREATE DATABASE/d' >"$work/dump.sql"
cp "$work/data/master.key" "$work/data/admin.password" "$work/"
curl -sf -o /dev/null -X POST "$sim/devices/$first/release" || true
tar -C "$work" -czf "$here/$name.tar.gz" dump.sql master.key admin.password fleet jobs.json
ls -l "$here/$name.tar.gz"
