listener() {
  b=$(printf %.15s "${exe##*/}")  # what the kernel calls it; asking that starts no program, which a slow host notices
  for p in /proc/[0-9]*; do
    c=; read -r c 2>/dev/null <$p/comm; [ "$c" = "$b" ] || [ "$kind" = dropbear ] || continue
    [ "$(readlink $p/exe)" = "$exe" ] || continue
    case $kind in
      openssh) case "$(tr '\0' ' ' <$p/cmdline)" in *'[listener]'*) echo "${p#/proc/}";; esac;;
      *) case "$(tr '\0' ' ' <$p/cmdline) " in *' -2 '*) ;; *) echo "${p#/proc/}";; esac;;
    esac
  done | sed -n 1p
}
