parent_of() { sed -n 's/^PPid:[^0-9]*//p' "/proc/$1/status" 2>/dev/null; }
unit_of() {
  _u=$(sed -n '/user\.slice/d; s|.*/\([^/]*\)\.service$|\1|p' "/proc/$1/cgroup" 2>/dev/null | sed -n 1p); [ -n "$_u" ] || return 1
  case $_u in *inetd*|cron*|atd*|rc-local*) return 1;; esac
  _a=$(parent_of "$1"); _c=; read -r _c 2>/dev/null <"/proc/$_a/comm"
  case "$(systemctl show -p MainPID -p Type "$_u.service" 2>/dev/null | sort | tr '\n' ' ')" in
    *"MainPID=$1 "*) ;;
    *"MainPID=$_a "*) case $_c in sh|dash|bash|ash) ;; *) return 1;; esac;;
    *'MainPID=0 Type=forking '*) [ "$_a" = 1 ] || return 1;;
    *) return 1;;
  esac
  echo "$_u"
}
