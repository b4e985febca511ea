#!/usr/bin/env bash
# Takes the pictures of the terminal. “make screenshots” calls it; it needs Xvfb, xterm and ImageMagick.
set -euo pipefail
cd "$(dirname "$0")/../../.."
export DISPLAY=:97
Xvfb :97 -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 &
screen=$!
trap 'kill $screen' EXIT
sleep 1

# picture NAME COMMAND: what the command prints, under its own line.
picture() {
  xterm -fa 'JetBrains Mono' -fs "${3:-11}" -geometry "${4:-140x40}+0+0" -b 10 -bw 0 -u8 +sb -bg '#11191c' -fg '#e7ebe6' \
    -e bash -c 'export PATH="$PWD/bin:$PATH"; printf "\033[1m$ %s\033[0m\n" "$0"; eval "$0"; sleep 20' "$2" &
  local terminal=$!
  sleep 3
  import -window root "docs/screenshots/$1.png"
  kill $terminal
}

picture terminal-check 'sentier check agnes.lindqvist control alder-gate-1 --at "2026-11-24 20:00" --policy internal/demo/larkmere.yaml'

# The other is asked of a service.
sentier=bin/sentier
$sentier demo --listen 127.0.0.1:7497 >/tmp/sentier-pictures.out 2>&1 &
service=$!
trap 'kill $screen $service' EXIT
sleep 3
eval "$(grep 'export SENTIER_URL' /tmp/sentier-pictures.out)"
export SENTIER_URL SENTIER_TOKEN
picture terminal-show 'sentier grant list --limit 6; sentier user show noor.haddad' 12 80x46
