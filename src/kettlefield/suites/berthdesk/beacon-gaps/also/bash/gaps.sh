#!/bin/bash
total=0
before=
while read -r number; do
  if [ -n "$before" ] && [ $((number - before)) -gt 1 ]; then
    from=$((before + 1))
    to=$((number - 1))
    if @@one.sh@@ && [ "$from" -eq "$to" ]; then echo "$from"; else echo "$from-$to"; fi
    total=$((total + @@count.sh@@))
  fi
  before=$number
done < <(tr -s '[:space:]' '\n' | sed '/^$/d' | sort -n -u)
echo "@@word@@ $total"
