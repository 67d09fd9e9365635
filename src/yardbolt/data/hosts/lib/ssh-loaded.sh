#@ lib/loads

digest_() { files "$f" | while read -r x; do [ -f "$x" ] && { echo "$x"; cat "$x"; }; done | sha256sum | cut -d' ' -f1; }
noted_at() { "$exe" -T -f "$f" $a 2>/dev/null | sed -n 's/^pidfile //p'; }
# what it notes it notes again; until then it has not loaded them yet, though it seems to listen
about_to_load() { d=$(digest_); at=$(noted_at); was_=; [ "$(cat "$at" 2>/dev/null)" = "$l" ] && was_=$(stat -c '%i %Z' "$at"); }
has_loaded() { [ -n "$(listener)" ] && { [ -z "$was_" ] || { [ -f "$at" ] && [ "$(stat -c '%i %Z' "$at" 2>/dev/null)" != "$was_" ]; }; }; }
marked() {
  [ -f "$at" ] && [ "$d" = "$(digest_)" ] || return 0
  read -r u r </proc/uptime; echo "$(stat -c %Y "$at") ${u%%.*} $(cat "$at") $d" >/run/yardbolt-loaded
}
