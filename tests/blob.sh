#!/usr/bin/env bash
# The real blob server on loopback for tests; its data are in memory and end with it.
#   blob.sh up DIR PORT    start it and wait until it answers       blob.sh down DIR
# BLOB_SERVER: the folder with its node_modules. Accounts: keeper, with the key base64("sk-keeper-000"), and deck.
set -euo pipefail
dir=$(realpath -m "${2:?DIR}")
if [[ $1 == down ]]; then
  [[ -f $dir/pid ]] && kill "$(cat "$dir/pid")" 2> /dev/null || true
  rm -f "$dir/pid"
  exit 0
fi
port=${3:?PORT}
mkdir -p "$dir"
cd "$dir"
export AZURITE_ACCOUNTS="keeper:$(printf sk-keeper-000 | base64);deck:$(printf sk-deck-000 | base64)"
node "${BLOB_SERVER:?a folder with node_modules}/node_modules/azurite/dist/src/blob/main.js" --blobHost 127.0.0.1 \
  --blobPort "$port" --inMemoryPersistence --disableTelemetry --skipApiVersionCheck > "$dir/log" 2>&1 < /dev/null &
echo $! > "$dir/pid"
disown
for _ in $(seq 1200); do
  if curl -s -o /dev/null "http://127.0.0.1:$port/"; then exit 0; fi
  kill -0 "$(cat "$dir/pid")" 2> /dev/null || break
  sleep .1
done
cat "$dir/log" >&2
exit 1
