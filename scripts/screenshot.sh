#!/bin/sh
# A PNG of a command in a real terminal window, without a monitor: scripts/screenshot.sh OUT.png SECONDS COMMAND
# Needs xvfb, xterm and imagemagick. The window is taken SECONDS after the command began.
set -eu
out=$1 seconds=$2 command=$3
size=${SIZE:-158x48}
display=:$((90 + $$ % 100))
Xvfb "$display" -screen 0 1280x800x24 >/dev/null 2>&1 &
server=$!
trap 'kill $server 2>/dev/null' EXIT
sleep 1
DISPLAY=$display xterm -geometry "$size+0+0" -fa 'DejaVu Sans Mono' -fs 9 -bg '#16191d' -fg '#d8dee4' \
    -e sh -c "$command; sleep 60" &
terminal=$!
sleep "$seconds"
DISPLAY=$display import -window root -crop 1280x800+0+0 +repage "$out"
kill $terminal 2>/dev/null || true
