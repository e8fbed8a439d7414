#!/usr/bin/env bash
LC_ALL=C awk '
    { n[$1] += ($2 == "in") ? 1 : -1; all += ($2 == "in") ? 1 : -1 }
    END {
        for (s in n) if (n[s] != 0) print s, n[s] (n[s] < 0 ? "!" : "") | "LC_ALL=C sort"
        close("LC_ALL=C sort")
        print "@@word@@", all + 0
    }
'
