case $name in /*) ;; *) no 'a file is named from the root';; esac
[ -f "$name" ] && { [ -h "$name" ] && no "$name is a link"; keep "$name"; rm -f "$name"; }
[ ! -e "$name" ] || no "$name could not be removed"
