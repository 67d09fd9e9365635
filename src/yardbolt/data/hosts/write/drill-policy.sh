#@ lib/drill-account

#@ lib/give

begin "$name"
give "$name"
have su && have passwd || { no 'untried: there is no su or no passwd'; }
change() { printf '%s\n%s\n%s\n' "$1" "$2" "$2" | su "$name" -s /bin/sh -c passwd >/dev/null 2>&1; }
change "$secret" "$weak"; w=$?
if [ $w = 0 ]; then change "$weak" "$strong"; else change "$secret" "$strong"; fi; s=$?
end "$name"
[ $w = 0 ] && no 'a weak password was taken'
[ $s = 0 ] || no 'untried: a strong one was refused as well, so that a weak one is says nothing'
