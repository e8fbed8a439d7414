#!/bin/bash
freed=0
previous=''
rank=0
declare -a lines=()
while read -r name day size; do
  if [[ $name != "$previous" ]]; then
    previous=$name
    rank=0
  fi
  rank=$((rank + 1))
  if (( rank > 2 && size >= @@size@@ )); then
    lines+=("$name $day")
    freed=$((freed + size))
  fi
done < <(sort -t' ' -k1,1 -k2,2n@@keep.r@@)
if (( ${#lines[@]} )); then
  printf '%s\n' "${lines[@]}" | sort -t' ' -k1,1 -k2,2n@@order.r@@
fi
echo "freed $freed"
