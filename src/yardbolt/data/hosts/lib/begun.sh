# what is left behind when it ends, however it ends
ended() { _r=$?; [ $_r = 0 ] || undone; rm -rf "$U"; rm -f $Y/at-work; exit $_r; }
trap ended EXIT
rm -rf $Y/undo.*
echo "$$ $(since_ $$)" >$Y/at-work || no "no room for $Y"
