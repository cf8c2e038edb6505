#!/bin/sh
# Takes the terminal pictures of this folder anew, from a fresh demo.
# Needs Debian's xvfb, xterm, imagemagick, x11-utils and fonts-dejavu-core; run it from the
# repository's root after make build.
set -eu
out=$PWD/docs/screenshots home=$HOME
dir=$(mktemp -d)
export HOME=$dir XDG_CONFIG_HOME=$dir PATH=$PWD/bin:$PATH TZ=UTC DISPLAY=:87
Xvfb :87 -screen 0 1280x800x24 >/dev/null 2>&1 & x=$!
magpie demo --listen 127.0.0.1:8479 --data "$dir/demo" >"$dir/log" 2>&1 & demo=$!
trap 'kill -INT $demo; wait $demo || true; kill $x; rm -rf "$dir"' EXIT
until grep -q 'is up' "$dir/log"; do sleep 0.2; done
MAGPIE_PASSWORD=demo-admin-1 magpie login http://127.0.0.1:8479 --user admin >/dev/null

shot() { # name, then commands as typed
  name=$1; shift
  { for c in "$@"; do printf "printf '\\\\033[2m$ \\\\033[0m%%s\\\\n' '%s'; %s; echo\n" "$(printf %s "$c" | sed "s/'/'\\\\''/g")" "$c"; done; echo "touch $dir/$name.done; sleep 60"; } >"$dir/$name.sh"
  xterm -geometry ${SIZE:-158x49}+0+0 -fa 'DejaVu Sans Mono' -fs ${POINTS:-10} -bg '#faf7f0' -fg '#1c2030' -b 12 +sb \
    -xrm 'XTerm*color3: #8a5200' -xrm 'XTerm*color5: #6b3fa0' -xrm 'XTerm*color6: #00695c' -xrm 'XTerm*boldMode: true' -xrm 'XTerm*faintIsRelative: true' \
    -e sh "$dir/$name.sh" 2>/dev/null & t=$!
  n=0
  until [ -e "$dir/$name.done" ]; do sleep 0.1; n=$((n + 1)); [ $n -lt 600 ] || { echo "$name: no end after a minute"; exit 1; }; done
  sleep 0.7
  import -window root "$out/$name.png"
  kill $t; wait $t 2>/dev/null || true
}

shot status 'magpie status' 'magpie device list kind=switch' 'magpie device show dunvarrow-r1'
shot versions 'magpie versions skerrinsay-r1' 'magpie mark skerrinsay-r1@3 --pin --note "before the second ticket hall opened"' 'magpie show skerrinsay-r1@second-ticket-hall | head -24'
shot diff 'magpie diff skerrinsay-r1@as-built @latest --as tree' 'magpie diff port-asterly-r1@baseline @live --context 1' 'magpie drift control-f1' 'magpie search --in lane --lacks sieve name=control-r*'
shot preview 'magpie push port-asterly-r1@baseline --preview --within 5m' 'magpie swap dunvarrow-r1 --preview | head -12'
SIZE=180x61 POINTS=8 shot push 'magpie push innisquill-r1@baseline --yes --within 2m --when-verified --check "from innisquill-r1 ping 10.1.14.1" --note "gangway two is open again"'
shot later 'magpie push port-asterly-r1@baseline --yes --from 22:00 --until 23:30 --zone Atlantic/Faroe | tail -6' 'magpie snapshot make before-storm site=callowmere --at 2026-11-16T09:00' 'magpie restore --snapshot before-storm --preview' 'magpie restore-test innisquill-sw1 --on port-asterly-sw1 --yes' 'magpie sheet skerrinsay-sw1 | head -16'
shot pull 'magpie pull "name=*-r1" | tail -9' 'magpie job list --limit 6' 'magpie schedule list' 'magpie schedule run control-room | tail -3' 'magpie schedule agenda | head -9'
shot job 'magpie job show $(magpie --json job list --device wrackhaven-r1 --limit 1 | grep -o "\"id\": \"[^\"]*" | cut -d\" -f4)' 'magpie audit list --limit 10' 'magpie audit check' 'magpie dialect list' 'magpie user list'
export MAGPIE_DEVICE_PASSWORD=demo-nest-1
strip() { magpie --json device show skerrinsay-p1 | grep "\"$1\"" | cut -d'"' -f4; }
ADDRESS=$(strip address) KEY=$(strip host_key_fingerprint); export ADDRESS KEY
magpie device edit skerrinsay-p1 --spare >/dev/null # experiments run on spares only
SIZE=180x61 POINTS=8 shot dialect-try 'magpie dialect try dialects/fulmar.yaml --address $ADDRESS --port 2222 --user magpie --accept-key $KEY' 'magpie dialect learn fulmar --of skerrinsay-p1 --on skerrinsay-p1 --experiment --yes | tail -26 | cut -c1-176'

# The console's pages, in headless Chromium.
HOME=$home MAGPIE_SHOTS=$out go test ./e2e -count=1 -run 'TestConsolePutsItRight|TestConsolePagesFit|TestConsoleFinds' >/dev/null
