load() {
  # loaded in the very second of the change, nobody could tell later whether it has it
  next_second
  about_to_load
  loads "$l" || no 'the SSH server could not be told to load its settings'
  sleep 0.3  # until it has gone away to come back
  i=0; while sleep 0.1; [ $i -lt 50 ]; do
    i=$((i + 1))
    has_loaded && { marked; return; }
  done
  [ -n "$(listener)" ] || no 'the SSH server does not listen any more'
}
