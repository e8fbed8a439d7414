#!/usr/bin/env bash
LC_ALL=C awk '
    { n[$1] += ($2 == "in") ? @@way.in@@ : @@way.out@@; all += ($2 == "in") ? @@way.in@@ : @@way.out@@ }
    END {
        for (s in n) if (n[s] != 0) print s, n[s] (n[s] < 0 ? "!" : "") | "LC_ALL=C sort@@order.flag@@"
        close("LC_ALL=C sort@@order.flag@@")
        print "@@word@@", all + 0
    }
'
