#@ lib/called

# away PROGRAM SERVICE: stopped; back: started again, as it was
away() {
  s=${2:-$1}; p=$(called "$1"); w=; [ -n "$p" ] && w=$(tr '\0' '\n' </proc/$(echo "$p" | sed -n 1p)/cmdline)
  if [ -d /run/systemd/system ]; then systemctl stop "$s" </dev/null >/dev/null 2>&1
  elif [ -x "/etc/init.d/$s" ]; then service "$s" stop </dev/null >/dev/null 2>&1
  elif [ -n "$p" ]; then kill $p
  fi
  i=0; while [ -n "$(called "$1")" ] && [ $i -lt 50 ]; do sleep 0.1; i=$((i + 1)); done
}
back() {
  s=${2:-$1}
  if [ -d /run/systemd/system ]; then systemctl start "$s" </dev/null >/dev/null 2>&1
  elif [ -x "/etc/init.d/$s" ]; then service "$s" start </dev/null >/dev/null 2>&1
  else
    [ -n "$w" ] || no "how $s is started is not known"
    n='
'; IFS=$n; set -f; set -- $w; unset IFS; set +f; rm -f "/run/$1.pid" "/run/${1##*/}.pid"; "$@" </dev/null >/dev/null 2>&1
  fi
  i=0; while [ -z "$(called "${1##*/}")" ] && [ $i -lt 30 ]; do sleep 0.1; i=$((i + 1)); done
  [ -n "$(called "${1##*/}")" ] || no "$s did not start again"
}
# again PROGRAM SERVICE: started again, and not only told to read its files, so that it can be seen to have read them
again() {
  next_second; next_second  # a start is known to the second, and the boot it is counted from too
  # what a socket starts would come back between the two
  if [ -d /run/systemd/system ]; then systemctl restart "${2:-$1}" </dev/null >/dev/null 2>&1; else away "$@"; fi
  back "$@"
}
