tag() { sed "s|^|$1 |"; }
have() { command -v "$1" >/dev/null 2>&1; }
