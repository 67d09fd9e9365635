sync
setsid sh -c 'sleep 1; if [ -d /run/systemd/system ]; then systemctl reboot; elif command -v shutdown; then shutdown -r now; else reboot; fi' </dev/null >/dev/null 2>&1 &
