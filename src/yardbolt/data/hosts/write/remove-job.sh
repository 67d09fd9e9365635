#@ lib/jobs
f=${name% *}; n=${name##* }
case $name in
  at\ *) have atrm && atrm "$n" || no "$name could not be removed";;
  /etc/cron.hourly/*|/etc/cron.daily/*|/etc/cron.weekly/*|/etc/cron.monthly/*) keep "$name"; rm -f "$name";;
  *.timer) systemctl disable --now "$name" >/dev/null 2>&1; systemctl mask "$name" >/dev/null 2>&1;;
  /*) [ -f "$f" ] || exit 0
    case $n in ''|*[!0-9]*) no "which job of $f is meant is not known";; esac
    at=$(jobs_only -n -e = "$f" | sed -n "${n}p")
    [ -n "$at" ] || no "$f has no job $n any more"
    sed "${at}s/^/#yardbolt# /" "$f" | theirs "$f" || exit 9
    # where nothing is left that runs, nothing is left; the copy stays
    jobs_only "$f" | grep -qv '^#yardbolt# ' || [ "$f" = /etc/crontab ] || { saved "$f"; rm -f "$f"; };;
  *) no "how $name is removed is not known";;
esac
