"""What a Linux host may be like: features by group, as shell that is run in it before it starts the first time."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from yardbolt.bench.realhost import AT_BOOT, Host, Managed

COMMON = (
    "openssh-server,sudo,nftables,iproute2,procps,busybox,dropbear-bin,vsftpd,tftpd-hpa,snmpd,cron,lighttpd,libpam-pwquality,"
    "openbsd-inetd,inetutils-telnetd,ssl-cert,iptables,libnss-extrausers,opendoas,ufw,ncat"
)
INIT = "systemd-sysv,dbus,libpam-systemd"


class Scripts(Host):
    packages = f"{COMMON},sysv-rc,rsyslog,chrony"


class OtherScripts(Host):
    packages = f"{COMMON},sysv-rc,syslog-ng-core,ntpsec"


class Units(Managed):
    packages = f"{COMMON},{INIT},rsyslog,systemd-timesyncd"


class OtherUnits(Managed):
    packages = f"{COMMON},{INIT},syslog-ng-core,ntpsec"


class NextUnits(Managed):
    packages, release = f"{COMMON},{INIT},rsyslog,chrony", "trixie"


BASES: dict[str, type[Host]] = {
    "scripts": Scripts, "scripts, other daemons": OtherScripts, "units": Units, "units, other daemons": OtherUnits,
    "units, next release": NextUnits, "busybox": Scripts,
}  # fmt: skip


@dataclass(frozen=True)
class Feature:
    """One feature: how often it is drawn, its shell, and what those who judge must know of it."""

    weight: float = 1
    shell: str = ""
    only: Callable[[str], bool] = lambda base: True
    facts: dict[str, Any] = field(default_factory=dict)


def units(base: str) -> bool:
    return base.startswith("units")


def scripts(base: str) -> bool:
    return base.startswith("scripts")


def large(base: str) -> bool:
    return base != "busybox"


def sshd(text: str, name: str = "60-maker") -> str:
    return f"printf '%b' {quoted(text)} >/etc/ssh/sshd_config.d/{name}.conf\n"


def quoted(text: str) -> str:
    return "'" + text.replace("'", "'\\''") + "'"


def on(service: str) -> str:
    """It starts with the host, whatever its init is."""
    return f"if [ -d /lib/systemd/system ] && [ -e /lib/systemd/systemd ]; then systemctl -q enable {service}; else update-rc.d {service} defaults >/dev/null 2>&1; fi\n"


def off(service: str) -> str:
    return f"if [ -e /lib/systemd/systemd ]; then systemctl -q disable {service}; else update-rc.d {service} disable >/dev/null 2>&1; fi 2>/dev/null\n"


def dropbear(options: str) -> str:
    """The small SSH server in the place of the large one."""
    return (
        off("ssh")
        + off("ssh.socket")
        + f"mkdir -p /etc/dropbear\nif [ -e /lib/systemd/systemd ]; then\nprintf '[Unit]\\nDescription=Small SSH\\n[Service]\\nExecStart=/usr/sbin/dropbear -F -R {options}\\nKillMode=process\\nRestart=always\\n[Install]\\nWantedBy=multi-user.target\\n' >/etc/systemd/system/dropbear.service\nsystemctl -q enable dropbear\nelse\nprintf '#!/bin/sh\\n### BEGIN INIT INFO\\n# Provides: dropbear\\n# Required-Start: $remote_fs\\n# Required-Stop:\\n# Default-Start: 2 3 4 5\\n# Default-Stop:\\n### END INIT INFO\\ncase $1 in start) /usr/sbin/dropbear -R {options} -P /run/dropbear.pid;; stop) kill $(cat /run/dropbear.pid);; restart) kill $(cat /run/dropbear.pid); sleep 1; /usr/sbin/dropbear -R {options} -P /run/dropbear.pid;; esac\\n' >/etc/init.d/dropbear\nchmod 755 /etc/init.d/dropbear; update-rc.d dropbear defaults >/dev/null 2>&1\nfi\n"
    )


BUSYBOX = """
rm -rf /etc/rc2.d /etc/rcS.d /etc/pam.d /etc/pam.conf /usr/bin/ss /usr/bin/getent /usr/sbin/nft /usr/bin/sudo /usr/bin/doas /usr/bin/cvtsudoers /usr/sbin/visudo
mkdir -p /etc/dropbear; rm -f /etc/init.d/*; printf '#!/bin/sh\\n/bin/busybox syslogd\\n[ -x /etc/init.d/S90own ] && /etc/init.d/S90own start\\ntouch /run/yard-up\\n' >/etc/init.d/rcS; chmod 755 /etc/init.d/rcS
printf '::sysinit:/etc/init.d/rcS\\n::respawn:/usr/sbin/dropbear -F -R -p 22\\n' >/etc/inittab
printf '#!/bin/sh\\nexec busybox reboot\\n' >/sbin/reboot; sed -i '/^touch .run.yard-up/,$d' /yard/start; echo 'exec /bin/busybox init' >>/yard/start
"""
IPT = "-A INPUT -i lo -j ACCEPT\n-A INPUT -m state --state ESTABLISHED,RELATED -j ACCEPT\n-A INPUT -p icmp -j ACCEPT\n-A INPUT -p tcp --dport 22 -j ACCEPT\n-A INPUT -p tcp --dport 2222 -j ACCEPT\n-A INPUT -p tcp --dport 9999 -j DROP\n"
OWN_TABLE = "flush ruleset\ntable inet maker { chain in { type filter hook input priority 0; policy drop; ct state established,related accept; iif lo accept; meta l4proto { icmp, ipv6-icmp } accept; tcp dport { 22, 2222, 80, 21, 23 } accept; udp dport { 161, 69 } accept; }; }\n"
BANNING = "#!/bin/sh\nwhile sleep 2; do c=$(faillock 2>/dev/null | grep -c RHOST); [ \"$c\" -ge 2 ] || c=$(grep -c 'Failed password' /var/log/auth.log 2>/dev/null); [ \"${c:-0}\" -ge 2 ] && { nft add table inet guard-table; nft 'add chain inet guard-table c { type filter hook input priority -1; }'; nft 'add rule inet guard-table c ip saddr 203.0.113.9 reject'; }; done 2>/dev/null\n"


def at_start(name: str, script: str) -> str:
    """A program of the maker that every start of the host starts, by the init that is there."""
    return (
        f"printf '%s' {quoted(script)} >/usr/local/sbin/{name}; chmod 755 /usr/local/sbin/{name}\n"
        f"if [ -e /etc/inittab ]; then echo '::respawn:/usr/local/sbin/{name}' >>/etc/inittab\n"
        f"elif [ -e /lib/systemd/systemd ]; then printf '[Service]\\nExecStart=/usr/local/sbin/{name}\\nRestart=always\\nKillMode=process\\n[Install]\\nWantedBy=multi-user.target\\n' >/etc/systemd/system/{name}.service; systemctl -q enable {name}\n"
        f"else printf '#!/bin/sh\\n### BEGIN INIT INFO\\n# Provides: {name}\\n# Required-Start:\\n# Required-Stop:\\n# Default-Start: 2 3 4 5\\n# Default-Stop:\\n### END INIT INFO\\n[ \"$1\" = start ] && {{ setsid /usr/local/sbin/{name} </dev/null >/dev/null 2>&1 & }}\\n' >/etc/init.d/{name}; chmod 755 /etc/init.d/{name}; update-rc.d {name} defaults >/dev/null 2>&1; fi\n"
    )


GROUPS: dict[str, dict[str, Feature]] = {
    "base": {name: Feature(2 if name in ("units", "scripts") else 1) for name in BASES},
    "daemon": {
        "sshd": Feature(6),
        "port 2222": Feature(1, sshd("Port 2222\n", "10-port"), only=large, facts={"port": 2222}),
        "two ports": Feature(1, sshd("Port 22\nPort 2222\n", "10-port"), only=large),
        "held by a socket": Feature(1, "systemctl -q disable ssh.service; systemctl -q enable ssh.socket\n", only=units),
        "one address": Feature(1, sshd("ListenAddress ADDRESS\n", "10-port"), only=large),
        "no Include": Feature(1, "sed -i '/^Include/d' /etc/ssh/sshd_config; echo 'PermitRootLogin yes' >>/etc/ssh/sshd_config\n", only=large),
        "Include at the end": Feature(1, "sed -i '/^Include/d' /etc/ssh/sshd_config; printf 'PermitRootLogin yes\\nX11Forwarding no\\nInclude /etc/ssh/sshd_config.d/*.conf\\n' >>/etc/ssh/sshd_config\n", only=large),
        "file elsewhere": Feature(0.7, "cp /etc/ssh/sshd_config /etc/maker_sshd; echo 'SSHD_OPTS=\"-f /etc/maker_sshd\"' >/etc/default/ssh\n", only=large),
        "dropbear": Feature(1.5, dropbear("-p 22"), only=large, facts={"small": True}),
        "dropbear on 2222": Feature(1, dropbear("-p 2222"), only=large, facts={"small": True, "port": 2222}),
    },
    "admission": {
        "anybody": Feature(5),
        "AllowUsers": Feature(1, sshd("AllowUsers root tech guest\n", "61-who"), only=large),
        "AllowUsers by pattern": Feature(1, sshd("AllowUsers root t*@NET.* guest\n", "61-who"), only=large),
        "AllowGroups": Feature(1, "groupadd crew; for x in root tech guest; do usermod -aG crew $x; done\n" + sshd("AllowGroups crew\n", "61-who"), only=large),
        "DenyUsers": Feature(1, sshd("DenyUsers games lt-*x\n", "61-who"), only=large),
        "Match Address": Feature(1, sshd("PermitRootLogin no\nMatch Address NET.0/24\n PermitRootLogin yes\n", "05-who"), only=large),
        "Match Group": Feature(1, "groupadd crew; usermod -aG crew guest\n" + sshd("Match Group crew\n ForceCommand /bin/true\n PasswordAuthentication no\n", "61-who"), only=large),
        "certificates": Feature(1, "ssh-keygen -q -t ed25519 -N '' -f /root/ca; cp /root/ca.pub /etc/ssh/ca.pub\n" + sshd("TrustedUserCAKeys /etc/ssh/ca.pub\n", "61-who"), only=large),
        "second factor for one": Feature(1, sshd("Match User guest\n AuthenticationMethods publickey,password\n", "61-who"), only=large),
        "keys elsewhere": Feature(1, "mkdir -p /etc/ssh/keys; chmod 755 /etc/ssh/keys\n" + sshd("AuthorizedKeysFile /etc/ssh/keys/%u .ssh/authorized_keys\n", "61-who"), only=large),
        "keys by a command": Feature(1, "printf '#!/bin/sh\\nexit 0\\n' >/usr/local/bin/keys-of; chmod 755 /usr/local/bin/keys-of\n" + sshd("AuthorizedKeysCommand /usr/local/bin/keys-of %u\nAuthorizedKeysCommandUser nobody\n", "61-who"), only=large),
        "by dialogue alone": Feature(1, sshd("PasswordAuthentication no\nKbdInteractiveAuthentication yes\n", "61-who"), only=large),
        "without PAM": Feature(1, sshd("UsePAM no\n", "61-who"), only=large),
        "one session": Feature(1, sshd("MaxSessions 1\nMaxStartups 2\nLoginGraceTime 20\n", "61-who"), only=large),
        "pam_access": Feature(1, "echo '-:ALL EXCEPT root tech guest lt-works lt-watch (wheel):ALL' >>/etc/security/access.conf; sed -i 's/^# account  *required  *pam_access.so/account required pam_access.so/' /etc/pam.d/sshd; grep -q '^account.*pam_access' /etc/pam.d/sshd || echo 'account required pam_access.so' >>/etc/pam.d/sshd\n", only=large),
    },
    "passwords": {
        "stock": Feature(4),
        "no check": Feature(1.5, "rm -f /usr/share/pam-configs/pwquality; DEBIAN_FRONTEND=noninteractive pam-auth-update --force --package --remove pwquality; rm -f /lib/*/security/pam_pwquality.so /usr/lib/*/security/pam_pwquality.so\n", only=large),
        "by hand": Feature(1.5, "sed -i '/pam_pwquality/d; s/pam_unix.so.*/pam_unix.so minlen=9 sha512/' /etc/pam.d/common-password\n", only=large),
        "minlen in the line": Feature(1, "sed -i 's/pam_pwquality.so.*/pam_pwquality.so retry=3 minlen=7 difok=2/' /etc/pam.d/common-password\n", only=large),
        "quality file": Feature(1, "printf 'minlen = 20\\nminclass = 4\\ndictcheck = 0\\n' >/etc/security/pwquality.conf\n", only=large),
        "faillock": Feature(1.5, "sed -i '0,/^auth/s//auth required pam_faillock.so preauth deny=6 unlock_time=120\\nauth/' /etc/pam.d/common-auth; sed -i 's/success=1 default=ignore/success=2 default=ignore/; s/^auth.*requisite.*pam_deny.so/auth [default=die] pam_faillock.so authfail deny=6 unlock_time=120\\n&/' /etc/pam.d/common-auth; echo 'account required pam_faillock.so' >>/etc/pam.d/common-account\n", only=large),
        "a module that is gone": Feature(1, "echo 'session optional pam_gone.so' >>/etc/pam.d/common-session\n", only=large),
        "delayed": Feature(0.7, "sed -i '0,/^auth/s//auth optional pam_faildelay.so delay=3000000\\nauth/' /etc/pam.d/common-auth\n", only=large),
        "an empty include": Feature(0.7, "printf '@include \\n' >>/etc/pam.d/chfn\n", only=large),
    },
    "accounts": {
        "few": Feature(4),
        "a second root": Feature(1, "useradd -o -u 0 -g 0 -M -d /root -s /bin/bash backup2; echo 'backup2:Sidings-9' | chpasswd\n", only=large, facts={"more": {"backup2": "Sidings-9"}}),
        "extra users": Feature(1, "mkdir -p /var/lib/extrausers; echo 'vendor:x:5005:5005::/home/vendor:/bin/bash' >/var/lib/extrausers/passwd; echo 'vendor:x:5005:' >/var/lib/extrausers/group; echo 'vendor:!:19000::::::' >/var/lib/extrausers/shadow; chmod 640 /var/lib/extrausers/shadow; sed -i 's/^\\(passwd\\|group\\|shadow\\):.*/& extrausers/' /etc/nsswitch.conf\n", only=large),
        "a directory": Feature(1, "sed -i 's/^\\(passwd\\|group\\):.*/& ldap/' /etc/nsswitch.conf\n", only=large),
        "odd names": Feature(1, "for x in j.doe SRV_old x86 'pump-2'; do useradd -m --badname \"$x\" 2>/dev/null; done; echo 'm\\303\\274ller:!:6001:6001::/home/m:/bin/bash' >>/etc/passwd; printf 'm\\303\\274ller:!:19000:0:99999:7:::\\n' >>/etc/shadow; sed -i 's/^m.303.274ller/'$(printf 'm\\303\\274ller')'/' /etc/passwd\n"),
        "many": Feature(0.7, "i=7000; while [ $i -lt 9000 ]; do echo \"u$i:x:$i:$i::/nonexistent:/usr/sbin/nologin\" >>/etc/passwd; echo \"u$i:!:19000:0:99999:7:::\" >>/etc/shadow; i=$((i+1)); done\n"),
        "a blank one": Feature(1, "adduser -D blank 2>/dev/null || useradd -m blank; sed -i 's/^blank:[^:]*:/blank::/' /etc/shadow\n"),
        "an expired one": Feature(1, "useradd -m -e 2020-01-01 past; echo past:Past-77-p | chpasswd\n", only=large),
        "no shell, a password": Feature(1, "useradd -m -s /usr/sbin/nologin tunnel; echo tunnel:tunnel | chpasswd\n", only=large, facts={"published": {"tunnel": "tunnel"}}),
        "names of ours are there": Feature(1, "useradd -m -s /bin/bash lt-watch; echo lt-watch:watch | chpasswd\n", only=large),
    },
    "rights": {
        "sudo": Feature(5),
        "loose mode": Feature(1, "echo 'guest ALL=(ALL) /bin/ls' >/etc/sudoers.d/maker; chmod 644 /etc/sudoers.d/maker\n", only=large),
        "a broken file": Feature(0.7, "echo 'guest ALL=(ALL /bin/ls' >/etc/sudoers.d/maker; chmod 440 /etc/sudoers.d/maker\n", only=large),
        "never asks": Feature(1, "echo 'Defaults !authenticate' >/etc/sudoers.d/00-maker; chmod 440 /etc/sudoers.d/00-maker\n", only=large),
        "wants a terminal": Feature(1, "echo 'Defaults requiretty,use_pty,logfile=/var/log/sudo.log' >/etc/sudoers.d/00-maker; chmod 440 /etc/sudoers.d/00-maker\n", only=large),
        "no folder included": Feature(1, "sed -i '/includedir/d' /etc/sudoers\n", only=large),
        "root's password": Feature(0.7, "echo 'Defaults rootpw' >/etc/sudoers.d/00-maker; chmod 440 /etc/sudoers.d/00-maker\n", only=large, facts={"rootpw": True}),
        "doas": Feature(1, "rm -f /usr/bin/sudo /usr/sbin/visudo /usr/bin/cvtsudoers; echo 'permit persist :sudo' >/etc/doas.conf; chmod 400 /etc/doas.conf\n", only=large, facts={"sudo": False}),
        "neither": Feature(1, "rm -f /usr/bin/sudo /usr/sbin/visudo /usr/bin/cvtsudoers /usr/bin/doas\n", only=large, facts={"sudo": False}),
    },
    "entry": {
        "root": Feature(4, facts={"as": "root"}),
        "a sudoer": Feature(2, "echo 'tech ALL=(ALL:ALL) ALL' >/etc/sudoers.d/tech 2>/dev/null && chmod 440 /etc/sudoers.d/tech\n", facts={"as": "tech"}),
        "a sudoer never asked": Feature(1, "echo 'tech ALL=(ALL) NOPASSWD: ALL' >/etc/sudoers.d/tech 2>/dev/null && chmod 440 /etc/sudoers.d/tech\n", facts={"as": "tech"}),
        "a key of root": Feature(1, "mkdir -p /root/.ssh; chmod 700 /root/.ssh; echo 'FIRSTKEY' >>/root/.ssh/authorized_keys\n", facts={"as": "root", "key": True}),
    },
    "filter": {
        "none": Feature(4, "rm -f /etc/nftables.conf; printf 'flush ruleset\\n' >/etc/nftables.conf\n"),
        "own table": Feature(1.5, f"printf '%s' {quoted(OWN_TABLE)} >/etc/nftables.conf\n" + on("nftables"), only=units),
        "iptables by nft": Feature(1.5, at_start("maker-filter", f"#!/bin/sh\nprintf '*filter\\n%s\\nCOMMIT\\n' {quoted(IPT)} | iptables-nft-restore\nexec sleep 1000000\n"), only=large),
        "iptables, old": Feature(1, at_start("maker-filter", f"#!/bin/sh\nprintf '*filter\\n%s\\nCOMMIT\\n' {quoted(IPT)} | iptables-legacy-restore\nexec sleep 1000000\n"), only=large),
        "a front-end": Feature(1, "sed -i 's/^ENABLED=.*/ENABLED=yes/' /etc/ufw/ufw.conf; ufw --force default deny >/dev/null 2>&1; for p in 22 2222 80 21 23; do ufw allow $p/tcp >/dev/null 2>&1; done; ufw allow 161/udp >/dev/null 2>&1\n" + on("ufw"), only=large),
        "somebody bans": Feature(1, at_start("maker-bans", BANNING), only=large),
        "no nft": Feature(1, "rm -f /usr/sbin/nft\n", only=large),
        "no nft, older iptables": Feature(1, "rm -f /usr/sbin/nft; for f in iptables ip6tables; do update-alternatives --set $f /usr/sbin/$f-legacy >/dev/null 2>&1; done\n" + at_start("maker-filter", f"#!/bin/sh\nprintf '*filter\\n%s\\nCOMMIT\\n' {quoted(IPT)} | iptables-legacy-restore\nexec sleep 1000000\n"), only=large),
        "no program": Feature(0.7, "rm -f /usr/sbin/nft /usr/sbin/*tables* /usr/sbin/ufw\n", only=large),
    },
    "logs": {
        "as packed": Feature(4),
        "sent away": Feature(1, "[ -d /etc/rsyslog.d ] && echo '*.* @192.0.2.99:514' >/etc/rsyslog.d/out.conf\n[ -d /etc/syslog-ng ] && printf 'destination d_far { udp(\"192.0.2.99\"); }; log { source(s_src); destination(d_far); };\\n' >/etc/syslog-ng/conf.d/far.conf\n"),
        "none runs": Feature(1.5, off("rsyslog") + off("syslog-ng") + "rm -f /usr/sbin/rsyslogd /usr/sbin/syslog-ng\n", only=large),
        "no folder included": Feature(0.7, "[ -f /etc/rsyslog.conf ] && sed -i '/^.IncludeConfig/d; /include(/d' /etc/rsyslog.conf\n", only=large),
    },
    "time": {
        "as packed": Feature(4),
        "asks somebody": Feature(1, "[ -d /etc/chrony/sources.d ] && echo 'server 192.0.2.77 iburst' >/etc/chrony/sources.d/far.sources\n[ -f /etc/ntpsec/ntp.conf ] && echo 'server 192.0.2.77' >>/etc/ntpsec/ntp.conf\n[ -f /etc/systemd/timesyncd.conf ] && echo 'NTP=192.0.2.77' >>/etc/systemd/timesyncd.conf\n"),
        "none": Feature(1, off("chrony") + off("ntpsec") + off("systemd-timesyncd") + "rm -f /usr/sbin/chronyd /usr/sbin/ntpd\n"),
    },
    "snmp": {
        "not needed, off": Feature(4, off("snmpd")),
        "not needed, open": Feature(1, on("snmpd") + "sed -i 's/agentaddress.*/agentaddress udp:161,udp6:161/; s/^rocommunity .*/rocommunity public/' /etc/snmp/snmpd.conf\n", only=large),
        "needed, as packed": Feature(1, on("snmpd"), only=large, facts={"snmp": True}),
        "needed, open": Feature(1, on("snmpd") + "sed -i 's/agentaddress.*/agentaddress udp:161/; s/^rocommunity .*/rocommunity public/' /etc/snmp/snmpd.conf; echo 'rwcommunity private' >>/etc/snmp/snmpd.conf\n", only=large, facts={"snmp": True}),
        "needed, users": Feature(1, on("snmpd") + "mkdir -p /var/lib/snmp; printf 'createUser bob MD5 \"bob-pass-1\" DES \"bob-pass-2\"\\n' >>/var/lib/snmp/snmpd.conf; printf 'agentaddress udp:161\\nrouser bob auth\\n' >/etc/snmp/snmpd.conf\n", only=large, facts={"snmp": True}),
    },
    "services": {
        "ssh alone": Feature(4, off("vsftpd") + off("tftpd-hpa") + off("lighttpd") + off("inetd")),
        "telnet": Feature(1, off("vsftpd") + off("tftpd-hpa") + off("lighttpd") + "echo 'telnet stream tcp nowait root /usr/sbin/telnetd telnetd' >/etc/inetd.conf\n" + on("inetd"), only=large),
        "ftp and tftp": Feature(1, off("lighttpd") + off("inetd") + "sed -i 's/anonymous_enable=NO/anonymous_enable=YES/; s/#*local_enable=.*/local_enable=YES/' /etc/vsftpd.conf\n" + on("vsftpd") + on("tftpd-hpa"), only=large),
        "web": Feature(1, off("vsftpd") + off("tftpd-hpa") + off("inetd") + on("lighttpd"), only=large),
        "web needed": Feature(1, off("vsftpd") + off("tftpd-hpa") + off("inetd") + on("lighttpd"), only=large, facts={"needs": ["http"]}),
        "small telnet": Feature(1, at_start("maker-telnet", "#!/bin/sh\nexec busybox telnetd -F -l /bin/login\n")),
        "small web": Feature(1, "mkdir -p /srv/www; echo hi >/srv/www/index.html; echo '/:admin:admin' >/etc/httpd.conf\n" + at_start("maker-web", "#!/bin/sh\nexec busybox httpd -f -h /srv/www\n")),
        "a raw shell": Feature(1, off("vsftpd") + off("tftpd-hpa") + off("lighttpd") + off("inetd") + at_start("maker-raw", "#!/bin/sh\nexec ncat -lk 4444 -e /bin/sh\n"), facts={"raw": 4444}),
        "a control port": Feature(1, off("vsftpd") + off("tftpd-hpa") + off("lighttpd") + off("inetd") + at_start("maker-control", "#!/bin/sh\nexec ncat -lk 9999 -e /bin/cat\n"), facts={"raw": 9999}),
    },
    "around": {
        "nothing": Feature(5),
        "chatty shell": Feature(1, "echo 'echo Welcome aboard' >>/root/.bashrc; sed -i '1i echo Good morning' /root/.bashrc; echo 'echo Hello' >>/etc/profile.d/hello.sh; echo 'TMOUT=900' >/etc/profile.d/idle.sh\n"),
        "umask 077": Feature(1, "echo 'umask 077' >>/etc/profile; sed -i 's/^UMASK.*/UMASK 077/' /etc/login.defs 2>/dev/null; echo 'session optional pam_umask.so umask=077' >>/etc/pam.d/common-session\n", only=large),
        "another language": Feature(1, "echo 'LANG=de_DE.UTF-8' >/etc/default/locale; echo 'LANG=de_DE.UTF-8' >>/etc/environment; echo 'LC_ALL=C.UTF-8' >>/etc/environment\n"),
        "no IPv6": Feature(1, "sysctl -qw net.ipv6.conf.all.disable_ipv6=1\n", facts={"no6": True, "each": "sysctl -qw net.ipv6.conf.all.disable_ipv6=1"}),
        "read-only programs": Feature(1, facts={"each": "mount --bind /usr /usr && mount -o remount,ro,bind /usr"}),
        "slow line": Feature(1, facts={"each": "tc qdisc add dev eth0 root netem delay 120ms"}),
        "lossy line": Feature(1, facts={"each": "tc qdisc add dev eth0 root netem loss 2%"}),
        "small disk": Feature(1, facts={"disk": "12m"}),
        "jobs of the maker": Feature(1, "echo '*/5 * * * * root /usr/local/bin/callhome' >/etc/cron.d/callhome; printf '# note\\n\\n  # indented\\n0 3 * * * /bin/true\\n' >/tmp/tab; crontab -u guest /tmp/tab 2>/dev/null; mkdir -p /etc/cron.daily; printf '#!/bin/sh\\n' >/etc/cron.daily/maker; chmod 755 /etc/cron.daily/maker\n"),
        "name localhost": Feature(0.7, "echo localhost >/etc/hostname; hostname localhost\n", only=large),
        "keys of the maker": Feature(1, "ssh-keygen -q -t ed25519 -N '' -f /root/k; for h in /root /home/guest; do mkdir -p $h/.ssh; chmod 700 $h/.ssh; printf '%s' \"$(cat /root/k.pub)\" >>$h/.ssh/authorized_keys; done; chown -R guest /home/guest/.ssh\n"),
        "shell of root is sh": Feature(1, "sed -i 's#^root:\\(.*\\):[^:]*$#root:\\1:/bin/sh#' /etc/passwd\n"),
        "off at the next start": Feature(1, off("ssh"), only=large, facts={"start by hand": "/usr/sbin/sshd"}),
        "one host key": Feature(0.7, "rm -f /etc/ssh/ssh_host_ed25519* /etc/ssh/ssh_host_ecdsa*; ssh-keygen -q -t rsa -b 1024 -N '' -f /etc/ssh/ssh_host_rsa_key <<X\ny\nX\n", only=large),
    },
}  # fmt: skip
PLAIN = {group: next(iter(of)) for group, of in GROUPS.items()}


def fits(case: dict[str, str]) -> bool:
    """Can a host be so? What the base cannot have is not drawn for it, and what needs the large SSH server not for
    the small one."""
    base, small = case["base"], case["base"] == "busybox" or "dropbear" in case["daemon"]
    if not all(GROUPS[group][what].only(base) for group, what in case.items()):
        return False
    if small and (case["admission"] != "anybody" or case["around"] in ("off at the next start", "one host key")):
        return False
    if case["around"] == "off at the next start" and case["daemon"] in ("held by a socket", "file elsewhere"):
        return False
    if "key" in GROUPS["entry"][case["entry"]].facts and case["admission"] in ("keys elsewhere",):
        return False
    return not (case["base"] == "busybox" and case["entry"].startswith("a sudoer"))


def facts(case: dict[str, str]) -> dict[str, Any]:
    """What those who judge must know of a case."""
    found: dict[str, Any] = {
        "port": 22,
        "small": case["base"] == "busybox",
        "sudo": case["base"] != "busybox",
        "needs": [],
    }
    for group, what in case.items():
        found |= GROUPS[group][what].facts
    return found


def setup(case: dict[str, str]) -> str:
    """The shell that makes a host so, before it starts the first time."""
    parts = [
        "useradd -m -s /bin/bash tech; useradd -m -s /bin/bash guest; printf 'root:Works-4417-r\\ntech:Tech-881-q\\nguest:guest\\n' | chpasswd 2>/dev/null; ssh-keygen -A >/dev/null\n",
        BUSYBOX if case["base"] == "busybox" else sshd("PermitRootLogin yes\n"),
        *(GROUPS[group][what].shell for group, what in case.items()),
        "sleep 2.2",
    ]
    return "\n".join(parts)


def boot(case: dict[str, str]) -> str:
    """What each start of it starts, where scripts do."""
    each = facts(case).get("each", "")
    if case["base"] == "busybox" or units(case["base"]):
        return str(each)
    starts = AT_BOOT.replace("rsyslogd; ", "[ -x /usr/sbin/rsyslogd ] && rsyslogd; ")
    return f"{each}\n{starts}"
