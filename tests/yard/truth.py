"""The hosts of the yard: what was planted in each, as data, and what must be told of it."""

from __future__ import annotations

from dataclasses import dataclass

from yardbolt.bench.realhost import Host, Managed

FILTER = """table inet gate {
 set office { type ipv4_addr; flags interval; elements = { NET.10, NET.11 } }
 map ports { type inet_service : verdict; elements = { 22 : jump admins, 80 : accept } }
 chain admins { ip saddr @office accept; ip6 saddr NET6:/64 ip6 saddr != NET6:42 accept; drop; }
 chain in { type filter hook input priority 0; policy accept; ct state established,related accept; iif lo accept; tcp dport vmap @ports; tcp dport 23 ip saddr != NET.66 accept; tcp dport 23 drop; tcp dport 80 drop; }
}
"""


@dataclass(frozen=True)
class Kind:
    """One kind of host: how it is set up and started (shell), how one logs in, the logins its maker published, and what
    must be told: leaves of the plane, and causes that fail."""

    setup: str
    start: str
    login: str
    published: str
    leaves: dict[str, object]
    fails: dict[str, str]
    boot: str = ""
    family: str = "linux-server"
    host: type[Host] = Host


MILL = Kind(
    setup=r"""
useradd -m -s /bin/bash works; useradd -m -s /bin/bash guest; useradd -o -u 0 -g 0 -M -d /root -s /bin/bash backup2
printf 'root:Millstone-1\nworks:Millstone-2\nguest:guest\nbackup2:x\n' | chpasswd 2>/dev/null
usermod -p "$(perl -e 'print crypt("guest","ab")')" guest
echo 'works ALL=(ALL) ALL' > /etc/sudoers.d/works; echo 'guest ALL=(ALL) NOPASSWD: ALL' > /etc/sudoers.d/guest; chmod 440 /etc/sudoers.d/*
ssh-keygen -A >/dev/null; rm /etc/ssh/ssh_host_rsa_key*; ssh-keygen -q -t rsa -b 1024 -N '' -f /etc/ssh/ssh_host_rsa_key
mkdir -p /home/guest/.ssh; ssh-keygen -q -t ed25519 -N '' -f /root/k; cp /root/k.pub /home/guest/.ssh/authorized_keys2
ssh-keygen -q -t ed25519 -N '' -f /root/ca; cp /root/ca.pub /etc/ssh/works-ca.pub; ssh-keygen -q -s /root/ca -I works -n lt-works,works /root/k.pub
printf 'PermitRootLogin no\nMaxAuthTries 3\nBanner /etc/issue.net\nTrustedUserCAKeys /etc/ssh/works-ca.pub\nMatch Address NET.0/24\n PermitRootLogin yes\n' > /etc/ssh/sshd_config.d/00-vendor.conf
sed -i 's/agentaddress.*/agentaddress udp:161,udp6:161/; s/^rocommunity .*/rocommunity public/' /etc/snmp/snmpd.conf
echo 'rwcommunity Bogie-77-x 10.0.0.0/8' >> /etc/snmp/snmpd.conf
sed -i 's/anonymous_enable=NO/anonymous_enable=YES/; s/#*local_enable=.*/local_enable=YES/' /etc/vsftpd.conf
echo 'telnet stream tcp nowait root /usr/sbin/telnetd telnetd' > /etc/inetd.conf
echo '*/5 * * * * root /usr/local/bin/callhome --key MARKER-job' > /etc/cron.d/callhome; echo '0 3 * * * /bin/true' | crontab -u guest -
echo 'alias ls=/tmp/ls' >> /home/guest/.bashrc; echo '*.* @@192.0.2.99:6514' > /etc/rsyslog.d/out.conf
echo 'TMOUT=3600' > /etc/profile.d/idle.sh; update-rc.d lighttpd defaults >/dev/null 2>&1
openssl req -x509 -newkey rsa:2048 -nodes -days 5 -subj /CN=mill -keyout /srv/k.pem -out /srv/mill.pem 2>/dev/null; echo 'ssl.pemfile = "/srv/mill.pem"' > /etc/lighttpd/conf-enabled/99-own.conf
printf '%s' "$FILTER" > /yard/filter
sleep 2.2
""",
    start="/usr/sbin/sshd; service cron start; service snmpd start; service vsftpd start; service tftpd-hpa start; inetd; rsyslogd; nft -f /yard/filter; until ss -Hlnu | grep -q :161 && ss -Hlnu | grep -q :69 && ss -Hlnt | grep -q :21; do sleep 0.1; done",
    login="root:Millstone-1",
    published="{account: guest, secret: guest}, {account: works, secret: works}",
    leaves={
        "host/init": "sysv", "name": "mill", "accounts/works/role": "full", "accounts/works/becomes_root": "with its password",
        "accounts/guest/becomes_root": "freely", "accounts/backup2/becomes_root": "is root", "accounts/guest/storage": "outdated",
        "services/ssh/root_login": "yes", "services/ssh/tries": 3, "services/ssh/idle": 3600.0, "services/ssh/rsa_bits": 1024, "services/ssh/authority": "/etc/ssh/works-ca.pub",
        "services/http/enabled": False, "services/http/boot": True, "services/tftp/enabled": True, "services/ftp/encrypted": False,
        "policy/min_length": 8, "policy/dictionary": "missing", "snmp/communities": 3, "snmp/published": 2, "snmp/writing": 1,
        "logs/destinations": ["tcp 192.0.2.99 6514"], "clock/synchronised": False, "jobs//etc/cron.d/callhome 1/runs": "/usr/local/bin/callhome",
        "files//home/guest/.bashrc/origin": "unknown", "files//home/works/.bashrc/origin": "package", "answering/tcp-21/anonymous": True,
        "certificates//srv/mill.pem/self_signed": True, "certificates//srv/mill.pem/subject": "CN=mill",
        "trials/telnet guest factory:1/outcome": "opened", "trials/telnet works factory:2/outcome": "refused", "trials/ftp guest factory:1/outcome": "opened",
        "answering/tcp-22-ipv6/speaks": "ssh", "answering/udp-69/speaks": "tftp", "answering/udp-161/speaks": "snmp",
    },
    fails={
        "plain-service": "ftp", "certificates": "/srv/mill.pem: CN=mill is self-signed", "factory-login": "opens telnet as guest", "sessions": "guest is logged in from", "snmp-communities": "write", "nameless-files": "anonymous", "root-powers": "backup2 is root", "login-keys": "guest",
        "foreign-jobs": "callhome", "ssh-root": "yes", "ssh-key-size": "1024", "needed-services": "http does not run, and the next boot", "log-destination": "192.0.2.99",
        "password-storage": "guest", "dictionary": "missing", "time-source": "no", "idle-timeout": "1 h", "open-sources": "addresses more than the job allows may reach ssh",
    },
    boot="for x in /etc/rcS.d/S*yardbolt*; do [ -x $x ] && $x start; done; rsyslogd; nft -f /yard/filter; for x in /etc/rc2.d/S*; do $x start; done",
)  # fmt: skip
CABIN = Kind(
    setup=r"""
useradd -m -s /bin/sh tech; printf 'root:Cabin-77-a\ntech:tech\n' | chpasswd 2>/dev/null
rm -rf /etc/rc2.d /etc/rcS.d /etc/pam.d /etc/pam.conf /usr/bin/ss /usr/bin/getent /usr/sbin/nft /usr/bin/sudo /usr/bin/cvtsudoers /usr/sbin/visudo; mkdir -p /etc/dropbear /srv/www; echo hi >/srv/www/index.html; echo '/:admin:admin' >/etc/httpd.conf
rm -f /etc/init.d/rcS; printf '#!/bin/sh\n/bin/busybox syslogd -R 192.0.2.98:514\n/bin/busybox httpd -h /srv/www\ntouch /run/yard-up\n' >/etc/init.d/rcS; chmod 755 /etc/init.d/rcS
printf '::sysinit:/etc/init.d/rcS\n::respawn:/usr/sbin/dropbear -F -R -p 22 -T 4 -I 900\n::once:/bin/busybox telnetd -l /bin/login\n' > /etc/inittab
printf '#!/bin/sh\nexec busybox reboot\n' >/sbin/reboot; sed -i '/^touch .run.yard-up/,$d' /yard/start; echo 'exec /bin/busybox init' >>/yard/start
""",
    start="touch /yard/made; exec /bin/busybox init",
    login="root:Cabin-77-a",
    published="{account: admin, secret: admin}",
    leaves={
        "name": "cabin", "host/init": "busybox", "services/ssh/tries": 4, "services/ssh/idle": 900.0, "services/ssh/root_login": "yes", "services/http/enabled": True, "services/http/boot": True,
        "services/telnet/boot": True, "services/telnet/enabled": False, "accounts/tech/role": "read", "logs/destinations": ["udp 192.0.2.98 514"],
        "listening/tcp :: 80/program": "httpd", "answering/tcp-80/asks_by": "basic", "trials/http admin factory:1/outcome": "opened",
    },
    fails={"plain-service": "http", "factory-login": "opens http as admin", "needed-services": "telnet does not run, and the next boot", "ssh-root": "yes", "idle-timeout": "15 min"},
    family="linux-small",
)  # fmt: skip
# as most servers are: systemd starts everything, and what is planted is planted in it
SHED = Kind(
    setup=r"""
useradd -m -s /bin/bash works; useradd -m -s /bin/bash guest; printf 'root:Shed-4417-b\nworks:Millstone-2\nguest:guest\n' | chpasswd 2>/dev/null
echo 'works ALL=(ALL) ALL' > /etc/sudoers.d/works; chmod 440 /etc/sudoers.d/works
ssh-keygen -A >/dev/null; mkdir -p /home/guest/.ssh; ssh-keygen -q -t ed25519 -N '' -f /root/k; cp /root/k.pub /home/guest/.ssh/authorized_keys
printf 'PermitRootLogin yes\nMaxAuthTries 9\n' > /etc/ssh/sshd_config.d/50-works.conf
sed -i 's/agentaddress.*/agentaddress udp:161,udp6:161/; s/^rocommunity .*/rocommunity public/' /etc/snmp/snmpd.conf
echo 'telnet stream tcp nowait root /usr/sbin/telnetd telnetd' > /etc/inetd.conf; systemctl -q enable inetd
printf '[Unit]\nDescription=Call\n[Service]\nType=oneshot\nExecStart=/usr/local/bin/callhome\n' > /etc/systemd/system/callhome.service
printf '[Unit]\nDescription=Call\n[Timer]\nOnCalendar=*:0/7\n[Install]\nWantedBy=timers.target\n' > /etc/systemd/system/callhome.timer
echo '*.* @@192.0.2.99:6514' > /etc/rsyslog.d/out.conf; systemctl -q enable callhome.timer; systemctl -q mask console-getty.service
# the managers of users stay: ending them takes minutes where control groups are another's
mkdir /etc/systemd/logind.conf.d; printf '[Login]\nUserStopDelaySec=1h\n' > /etc/systemd/logind.conf.d/stay.conf
{ echo 'flush ruleset'; printf '%s' "$FILTER"; } > /etc/nftables.conf; systemctl -q enable nftables
sleep 2.2
""",
    start="",
    login="root:Shed-4417-b",
    published="{account: guest, secret: guest}, {account: works, secret: works}",
    leaves={
        "host/init": "systemd", "name": "shed", "services/ssh/root_login": "yes", "services/ssh/tries": 9, "services/ftp/enabled": True, "services/ftp/boot": True,
        "services/telnet/enabled": True, "services/telnet/boot": True, "snmp/communities": 2, "snmp/published": 2,
        "logs/destinations": ["tcp 192.0.2.99 6514"], "clock/synchronised": False,
    },
    fails={"plain-service": "ftp", "factory-login": "opens ssh as guest", "foreign-jobs": "callhome", "ssh-root": "yes", "login-keys": "guest"},
    host=Managed,
)  # fmt: skip
KINDS = {"mill": MILL, "cabin": CABIN, "shed": SHED}
