awk '
/^#/ || gsub(/;/, ";") < 3 { next }
{ split($0, part, ";"); calls[part[2] + 0]++; all++ }
END {
  for (k = 1; k <= @@top@@; k++) {
    best = 0
    for (c in calls) {
      if (best == 0 || calls[c] @@end.awk@@ calls[best] || (calls[c] == calls[best] && c + 0 @@tie.awk@@ best + 0)) best = c
    }
    if (best == 0) break
    print best, calls[best]
    delete calls[best]
  }
  print "all", all + 0
}'
