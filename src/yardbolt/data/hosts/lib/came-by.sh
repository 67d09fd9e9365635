came_by() { _p=$$; while [ "${_p:-0}" -gt 1 ]; do
  _o=$(tr '\0' '\n' 2>/dev/null </proc/$_p/environ | sed -n 's/^SSH_CONNECTION=.* //p'); [ -n "$_o" ] && { echo "$_o"; return; }
  _s=; read -r _s 2>/dev/null </proc/$_p/stat; _s=${_s##*) ? }; _p=${_s%% *}
done; }
