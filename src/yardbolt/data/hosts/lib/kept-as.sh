# how its password is kept: in a file that only root reads, or (as on small ones) where everybody may
#@ lib/fields
kept_as() { if line_of "$1" /etc/shadow >/dev/null; then field "$1" 2 /etc/shadow; else field "$1" 2 /etc/passwd; fi; }
