export LC_ALL=C
pattern='^([@@case.class@@])([@@case.class@@])([0-9]@@digits.count@@)(/[@@case.class@@])?$'
while IFS= read -r line; do
  good=1
  [[ $line =~ $pattern && ${BASH_REMATCH[1]} != "${BASH_REMATCH[2]}" && ${BASH_REMATCH[3]} != 0* ]] || good=
  if [[ @@keep.n@@ -z $good ]]; then printf '%s\n' "$line"; fi
done
exit 0
