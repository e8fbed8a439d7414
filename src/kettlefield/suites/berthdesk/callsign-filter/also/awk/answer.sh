LC_ALL=C awk '
function good(s) {
  if (s !~ /^[@@case.class@@][@@case.class@@][1-9][0-9]*(\/[@@case.class@@])?$/) return 0
  if (substr(s, 1, 1) == substr(s, 2, 1)) return 0
  digits = s
  sub(/\/.*/, "", digits)
  return ("@@digits.count@@" == "{2,3}") ? (length(digits) >= 4 && length(digits) <= 5) : (length(digits) >= 3 && length(digits) <= 4)
}
{ ok = good($0) }
("@@keep.flag@@" == "-v") ? !ok : ok
'
