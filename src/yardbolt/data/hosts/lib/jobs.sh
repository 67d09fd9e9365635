# The lines of a table of cron that are jobs, as crontab(5) has them: what reads them and what takes one out of force count alike. One
# that was taken out of force keeps its number.
jobs_only() { sed -e '/^#yardbolt# /!{/^[[:space:]]*#/d;}' -e '/^[[:space:]]*$/d' -e '/^[[:space:]]*[A-Za-z_][A-Za-z_0-9]*[[:space:]]*=/d' "$@"; }
