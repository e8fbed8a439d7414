#!/usr/bin/env bash
set -euo pipefail
export LC_ALL=C

declare -A count=()
total=0
while read -r sailing way; do
    step=@@way.in@@
    if [ "$way" = out ]; then
        step=@@way.out@@
    fi
    count[$sailing]=$((${count[$sailing]:-0} + step))
    total=$((total + step))
done
for sailing in "${!count[@]}"; do
    n=${count[$sailing]}
    mark=""
    if [ "$n" -lt 0 ]; then
        mark="!"
    fi
    if [ "$n" -ne 0 ]; then
        echo "$sailing $n$mark"
    fi
done | sort@@order.flag@@
echo "@@word@@ $total"
