#@ lib/tag

nft --debug=netlink list ruleset 2>/dev/null | awk '
  /^[a-z0-9]+ [^ ]+ [^ ]+ [0-9]+/ && $1 != "table" { if (r != "") print r; r = $0; next }
  /^  \[/ { sub(/^  /, ""); r = r " " $0; next }
  { if (r != "") print r; r = "" }
  END { if (r != "") print r }' | tag rule
:
