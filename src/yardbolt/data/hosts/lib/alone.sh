_i=0; while [ -n "$(at_work)" ] && [ $_i -lt 300 ]; do sleep 0.1; _i=$((_i + 1)); done
[ -z "$(at_work)" ] || no 'what was sent before is still at work here; wait, then run the same command again'
