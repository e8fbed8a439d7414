export LC_ALL=C
calls=$(awk -F';' '!/^#/ && NF >= 4 { print $2 + 0 }')
if [ -n "$calls" ]; then
  sort <<< "$calls" | uniq -c | awk '{ print $1, $2 }' | sort @@end.sort@@ @@tie.sort@@ | head -n @@top@@ | awk '{ print $2, $1 }'
  echo "all $(wc -l <<< "$calls" | tr -d ' ')"
else
  echo "all 0"
fi
