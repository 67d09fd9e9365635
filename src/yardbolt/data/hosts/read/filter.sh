#@ lib/tag

older() { sed "s/^/older $1 /" "/proc/net/$2_tables_names" 2>/dev/null; }
older 4 ip; older 6 ip6
[ -e /proc/net/if_inet6 ] || echo 'no ipv6'
have nft && r=$(nft --json list ruleset 2>/dev/null) || r=
# saved TAG PROGRAM: what it saves, and that it did
saved() { have "$2" && s=$("$2" 2>/dev/null) && { echo "read $1"; [ -z "$s" ] || echo "$s" | tag "$1"; }; }
for f in 4 6; do
  p=ip; [ $f = 6 ] && p=ip6
  case $("${p}tables" -V 2>/dev/null) in *nf_tables*) k=$f;; *) k=o$f;; esac
  # what iptables writes into tables of nft is in the list of nft
  [ -n "$r" ] || saved $f ${p}tables-nft-save || { [ $k = $f ] && saved $f ${p}tables-save; }
  saved o$f ${p}tables-legacy-save || { [ $k = o$f ] && saved o$f ${p}tables-save; }
done
# which tables of nft there are, where nothing else says so, and which hold sets, which iptables leaves out of the rules that ask
# them: asked of the kernel (nfnetlink, NFT_MSG_GETTABLE and NFT_MSG_GETSET)
has_nftables() { [ -d /sys/module/nf_tables ] || grep -qm1 ' nft_do_chain' /proc/kallsyms 2>/dev/null; }
if [ -n "$r" ]; then :
elif has_nftables; then have perl && perl -e '
  alarm 5; socket(S, 16, 3, 12) or exit;
  for $q (1, 10) {
    send(S, pack("LSSLLCCn", 20, 0xa00 + $q, 0x301, $q, 0, 0, 0, 0), 0) or exit;
    ANSWER: while (sysread(S, $b, 65536)) {
      while (length $b >= 16) {
        ($l, $t) = unpack "LS", $b; $l >= 16 && $l <= length $b or exit;
        last ANSWER if $t == 3; $t == 2 and exit;
        $m = substr $b, 0, $l; $b = substr $b, ($l + 3 & ~3);
        for ($a = substr $m, 20; length $a >= 4; $a = substr $a, ($n + 3 & ~3)) {
          ($n, $k) = unpack "SS", $a; $n >= 4 or exit;
          print $q == 1 ? "nft " : "sets ", unpack("C", substr $m, 16, 1), " ", substr($a, 4, $n - 5), "\n" if $k == 1;
        }
      }
    }
  }
  print "read tables\n";' 2>/dev/null
elif [ -r /proc/kallsyms ]; then echo 'no nftables'; fi
echo json
echo "$r"
:
