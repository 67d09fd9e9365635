#@ lib/tag

date -u +%s | tag now
all=$({ have nginx && nginx -T 2>/dev/null
  cat /etc/lighttpd/*.conf /etc/lighttpd/conf-enabled/*.conf /etc/apache2/sites-enabled/* /etc/httpd/conf.d/*.conf 2>/dev/null
  for p in /proc/[0-9]*; do
    read -r c 2>/dev/null <$p/comm || continue
    case $c in lighttpd|nginx|apache2|httpd) tr '\0' '\n' <$p/cmdline | sed -n '/^-f$/{n;p;}' | while read -r x; do [ -f "$x" ] && cat "$x"; done;; esac
  done
} | sed -n 's/^[[:space:]]*\(ssl_certificate\|SSLCertificateFile\)[[:space:]]\{1,\}"\{0,1\}\([^";[:space:]]*\).*/\2/p; s/^[[:space:]]*ssl\.pemfile[[:space:]]*=[[:space:]]*"\([^"]*\)".*/\1/p' | sort -u)
for x in $all; do
  echo "file $x"
  have openssl && openssl x509 -in "$x" -noout -subject -issuer -enddate -nameopt RFC2253 2>/dev/null | tag "cert $x"
done
:
