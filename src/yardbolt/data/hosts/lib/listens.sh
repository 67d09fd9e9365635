programs_of() { case $1 in
#@ known/programs
esac; }
ports_of() { case $1 in
#@ known/ports
esac; }
listens() { have ss && ss -Hlntup | sed -n "/ \(127\.[0-9.]*\|\[::1\]\)\(%[^ ]*\)\{0,1\}:[0-9]* /d; s/^\([a-z]*\)  *[^ ]*  *[0-9]*  *[0-9]*  *[^ ]*:\([0-9]*\) .*(\"$1\",.*/\1:\2/p" | sort -u; }
