#!/usr/bin/env bash
# Retakes docs/screenshots: each command in a real terminal window on a virtual screen. Needs xvfb, xterm, imagemagick.
# usage: bench/pictures.sh BIN [NAME …]   (the folder that holds `lantern`; with names, those terminal pictures alone)
set -euo pipefail
bin=$(realpath "$1"); shift
only=("$@")
out=$(realpath "$(dirname "$0")/../docs/screenshots")
work=$(mktemp -d)
export DISPLAY=:${PICTURE_DISPLAY:-87}
Xvfb "$DISPLAY" -screen 0 1920x1200x24 > /dev/null 2>&1 &
server=$!
trap 'kill $server $standin 2>/dev/null || true; rm -rf "$work"' EXIT
standin=
sleep 1
(cd "$work" && "$bin/lantern" demo saltmarsh > /dev/null)
"$bin/lantern" standin --workspace-into "$work/live" > /dev/null &
standin=$!
for _ in $(seq 50); do [[ -f $work/live/harbour-keys.json ]] && break; sleep 0.2; done
cat > "$work/saltmarsh/restricted.json" <<'JSON'
{"Version": "2012-10-17", "Statement": [
 {"Effect": "Allow", "Principal": "*", "Action": ["s3:GetObject", "s3:PutObject"], "Resource": "arn:aws:s3:::payroll-drop/*",
  "Condition": {"IpAddress": {"aws:SourceIp": "198.51.100.0/24"}}},
 {"Effect": "Allow", "Principal": "*", "Action": "s3:ListBucket", "Resource": "arn:aws:s3:::payroll-drop",
  "Condition": {"StringLike": {"s3:prefix": "public/*"}}}]}
JSON

picture() { # NAME COLUMNS ROWS COMMAND…
  local name=$1 columns=$2 rows=$3; shift 3
  [[ -z ${only[*]} || " ${only[*]} " == *" $name "* ]] || return 0
  cat > "$work/show" <<RUN
cd "$work/saltmarsh"; export PATH="$bin:\$PATH" TERM=xterm-256color
printf '\\033[2m\$\\033[0m \\033[1m%s\\033[0m\\n' "$(sed 's/cd ..\/live; //; s/FORCE_COLOR=1 COLUMNS=[0-9]* //; s/ | .*//' <<< "$*")"
$* 2>/dev/null
printf '\\033[?25l'; touch "$work/done"; sleep 20
RUN
  rm -f "$work/done"
  xterm -geometry "${columns}x${rows}+0+0" -fa 'DejaVu Sans Mono' -fs 10 -bg '#14181c' -fg '#d8dde2' -b 12 +sb \
    -e bash "$work/show" &
  local window=$!
  for _ in $(seq 60); do [[ -f $work/done ]] && break; sleep 0.2; done
  sleep 0.6
  import -window root "$work/shot.png"
  convert "$work/shot.png" -trim +repage -strip +dither -colors 160 "$out/$name.png"
  kill $window 2> /dev/null || true
  wait $window 2> /dev/null || true
}

picture reach 120 52 "cd ../live; FORCE_COLOR=1 COLUMNS=120 lantern reach | awk 'BEGIN{RS=\"\"; ORS=\"\\n\\n\"} /identities|To read|gateway-16/' | head -50"
picture history 130 26 lantern history --verify
picture changes 130 48 "FORCE_COLOR=1 COLUMNS=130 lantern changes --events events.jsonl | head -46"
picture remedy 110 51 lantern remedy harbour/payroll-drop
picture usage 130 40 lantern usage
picture buckets 120 46 "FORCE_COLOR=1 COLUMNS=120 lantern buckets | head -44"
picture audit 130 46 "FORCE_COLOR=1 COLUMNS=130 lantern audit | head -44"
picture show 110 46 "FORCE_COLOR=1 COLUMNS=110 lantern show harbour/press-kit --required | head -44"
picture exposure 114 54 lantern exposure harbour/tide-displays slipway/\\\$web skerry/ferry-lists harbour/station-inbox
picture try 110 40 lantern try --bucket harbour/payroll-drop --policy restricted.json
picture objects 120 44 "FORCE_COLOR=1 COLUMNS=120 lantern objects | head -42"
picture retention 130 46 "FORCE_COLOR=1 COLUMNS=130 lantern retention | head -44"
picture access 130 56 lantern access harbour/access-logs harbour/station-inbox
picture credentials 130 53 "FORCE_COLOR=1 COLUMNS=130 lantern credentials | sed -n '1,21p;/Identities with/{x;p;x};/Identities with/,\$p' | head -50"
picture links 130 67 lantern links yard-mail.txt
picture encryption 130 34 lantern encryption --store harbour
[[ -z ${only[*]} ]] || exit 0
(
  cd "$work/saltmarsh"
  figures=()
  for name in estate exposure storage drift retention credentials; do
    "$bin/lantern" figure "$name" --out "$work/$name.png" > /dev/null 2>&1
    figures+=("$work/$name.png")
  done
  montage "${figures[@]}" -tile 2x3 -geometry 800x+6+6 -strip -colors 64 "$out/figures.png"
)
(
  cd "$work/saltmarsh"
  "$bin/lantern" report --out "$work/report.html" > /dev/null 2>&1
  chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking \
    --disable-component-update --disable-sync --user-data-dir="$work/chromium" --window-size=1280,1500 \
    --screenshot="$out/report.png" "file://$work/report.html" > /dev/null 2>&1
  "$bin/lantern" report --evidence "$work/evidence" > /dev/null 2>&1
  chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking \
    --disable-component-update --disable-sync --user-data-dir="$work/chromium" --window-size=1280,1100 \
    --screenshot="$out/evidence.png" "file://$work/evidence/index.html" > /dev/null 2>&1
)
