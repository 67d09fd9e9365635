files() {
  [ -r "$1" ] || { echo "$1"; return; }
  echo "$1"
  sed -n 's/^[[:space:]]*[Ii][Nn][Cc][Ll][Uu][Dd][Ee][[:space:]=]\{1,\}//p' "$1" | while read -r words; do
    for g in $words; do
      case $g in /*) ;; *) g=/etc/ssh/$g;; esac
      d=${g%/*}; [ -d "$d" ] && echo "$d"
      for x in $g; do [ -e "$x" ] && files "$x"; done
    done
  done
}
