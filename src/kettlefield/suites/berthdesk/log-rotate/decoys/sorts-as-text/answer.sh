#!/usr/bin/env bash
set -euo pipefail

sort -k1,1 -k2,2@@keep.r@@ | awk '
    { if ($1 != name) { name = $1; seen = 0 } seen++ }
    seen > 2 && $3 >= @@size@@ { print $1, $2, $3 }
' | sort -k1,1 -k2,2@@order.r@@ | awk '
    { print $1, $2; freed += $3 }
    END { print "freed", freed + 0 }
'
