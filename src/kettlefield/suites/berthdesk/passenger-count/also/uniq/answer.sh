#!/bin/bash
export LC_ALL=C
input=$(grep . || true)
sum=0
while read -r name; do
  [ -n "$name" ] || continue
  ins=$(grep -c -x -F "$name in" <<<"$input")
  outs=$(grep -c -x -F "$name out" <<<"$input")
  n=$((@@way.in@@ * (ins - outs)))
  sum=$((sum + n))
  case $n in
    0) ;;
    -*) printf '%s %d!\n' "$name" "$n" ;;
    *) printf '%s %d\n' "$name" "$n" ;;
  esac
done < <(cut -d' ' -f1 <<<"$input" | sort -u@@order.flag@@)
printf '@@word@@ %d\n' "$sum"
