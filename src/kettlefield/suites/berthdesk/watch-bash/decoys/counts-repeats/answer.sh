#!/usr/bin/env bash
# Reads names of the crew, one a line, and shares out watches: the first name gets watch 1, the second watch 2, the third
# watch 3, the fourth watch 1 again, and so on. A name that comes again is passed over and takes no watch.
# Prints "NAME WATCH" for each name that got one, in the order of the input, then "watches A B C": how many names each
# watch has.
set -euo pipefail

declare -A seen=()
count=0
while IFS= read -r name; do
  if [ -n "${seen[$name]:-}" ]; then
    count=$((count + 1))
    continue
  fi
  seen[$name]=1
  echo "$name $((count % 3 + 1))"
  count=$((count + 1))
done
echo "watches $(((count + 2) / 3)) $(((count + 1) / 3)) $((count / 3))"
