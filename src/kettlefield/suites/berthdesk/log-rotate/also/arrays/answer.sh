#!/usr/bin/env bash
export LC_ALL=C
declare -A kept
freed=0
out=""
while read -r name day size; do
    [ -n "$name" ] || continue
    kept[$name]=$((${kept[$name]:-0} + 1))
    if [ "${kept[$name]}" -gt 2 ] && [ "$size" -ge @@size@@ ]; then
        out+="$name $day"$'\n'
        freed=$((freed + size))
    fi
done < <(sort -k1,1 -k2,2n@@keep.r@@)
printf '%s' "$out" | sort -k1,1 -k2,2n@@order.r@@
echo "freed $freed"
