# what sudo takes is checked under a name it does not read, and then put in its place
# sudo reads no file with a dot in its name
sudo_file() { echo "/etc/sudoers.d/yardbolt-$(echo "$1" | tr . =)"; }
# what the maker says for everybody, of terminals and of whose password is asked for, is not said for this account
rule_of() { printf 'Defaults:%s authenticate, !rootpw, !targetpw, !runaspw, !requiretty\n%s ALL=(ALL:ALL) ALL\n' "$1" "$1"; }
may_all() {
  # what was wrong with its rules before is not of our making
  _before=$(visudo -cq >/dev/null 2>&1 && echo good)
  have visudo || no 'there is no sudo, so only root has all rights here'
  s=/etc/sudoers.d/.yardbolt.new
  mkdir -p -m 750 /etc/sudoers.d; rule_of "$1" >$s && chmod 440 $s || no 'no room for the rules of sudo'
  visudo -cqf $s >/dev/null 2>&1 || { rm -f $s; no "sudo would not take a rule for $1"; }
  rm -f $s; rule_of "$1" | own "$(sudo_file "$1")" 440 || exit 9
  # where its rules do not take in the folder, they take in the file; their last line may have no end
  grep -Eq '^[#@]includedir[[:space:]]+/etc/sudoers\.d/?[[:space:]]*$' /etc/sudoers || grep -Fqx "$(taken_in "$1")" /etc/sudoers ||
    { cat /etc/sudoers; echo; taken_in "$1"; } | theirs /etc/sudoers || exit 9
  visudo -cq >/dev/null 2>&1 || [ -z "$_before" ] || { no_rule "$1"; no 'sudo would not take its rules any more'; }
}
taken_in() { echo "#include $(sudo_file "$1")"; }
no_rule() {
  grep -Fqx "$(taken_in "$1")" /etc/sudoers 2>/dev/null && { grep -Fvx "$(taken_in "$1")" /etc/sudoers | theirs /etc/sudoers || exit 9; }
  [ ! -e "$(sudo_file "$1")" ] || gone "$(sudo_file "$1")"
}
rights() {
  case $2 in
    full) may_all "$1";;
    *) no_rule "$1";;
  esac
}
