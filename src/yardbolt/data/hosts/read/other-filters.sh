#@ lib/tag

cat /proc/net/ip_tables_names /proc/net/ip6_tables_names 2>/dev/null | tag table
:
