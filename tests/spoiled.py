"""Replies for every decoder of the registry, and ways to spoil them: words lost, doubled, cut, exchanged, numbers
grown, trees turned."""

from __future__ import annotations

import random
from collections.abc import Iterator
from typing import Any

from yardbolt.core.talk.conversation import Replies

TEXTS: dict[str, str] = {
    "linux-system": "os ID=debian\nos NAME=\"Debian\"\nos VERSION_ID=\"12\"\nname box\nuptime 12.3 4.5\ninit systemd\nlink eth0 02:00:00:00:00:01 up\nlink lo 00:00:00:00:00:00 x\naddr 2: eth0    inet 192.0.2.1/24 brd x\nroute default via 192.0.2.254 dev eth0 proto static\n",
    "linux-accounts": "passwd root:x:0:0:root:/root:/bin/bash\npasswd j.doe:x:1000:1000::/home/j:/bin/sh\npasswd old:!:5:5::/:/bin/false\nsource files systemd\ngroup sudo:x:27:j.doe,other\nshadow root:$6$a$b:19000:0:99999:7:::\nshadow j.doe:!:19000:0:99999:7::18000:\nnow 1700000000\nhost box\nrules files\n",
    "ssh-server": "daemon openssh\nconfig /etc/ssh/sshd_config\nset port 22\nset permitrootlogin yes\nset passwordauthentication yes\nset kbdinteractiveauthentication no\nset usepam yes\nset pubkeyauthentication yes\nset permitemptypasswords no\nset maxauthtries 6\nset logingracetime 120\nset listenaddress 0.0.0.0:22\nset listenaddress [::]:22\nset ciphers a,b\nset channeltimeout session:*=300\nset allowusers a b@192.0.2.0/24\nset denyusers c*\nfor root 192.0.2.9 permitrootlogin no\nblock Match User x\nblock  PermitRootLogin no\nsure MaxAuthTries 4\nchanged 1690000000 /etc/ssh/sshd_config\nnow 1700000000\nloaded 1695000000\noldest 1600000000\nstarted 1600000000 1234 100\nsteady yes\nversion OpenSSH_9.2p1 Debian\nsocket Listen=0.0.0.0:22 (Stream)\nhostkey 3072 SHA256:x root@box (RSA)\nnotice hello\ntmout TMOUT=300\nshell /bin/bash\nexe /usr/sbin/sshd\n",
    "ssh-keys": "daemon openssh\nset permitrootlogin yes\ncommand none\nauthority none\nchanged 1690000000 /etc/ssh/sshd_config\nnow 1700000000\nloaded 1695000000\nstrict yes\nlooked root\nlooked j\nleads root 0 600 0\nleads root 0 700 0\nleads j 1000 777 0\nkey root from=\"192.0.2.1\",environment=\"A=B c\" ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGZha2VmYWtlZmFrZWZha2VmYWtlZmFrZWZha2VmYWtlZmFr me\nkey j cert-authority ssh-rsa AAAA x\nunread j /home/j/.ssh/x\n",
    "linux-services": "ss tcp LISTEN 0 128 0.0.0.0:22 0.0.0.0:* users:((\"sshd\",pid=12,fd=3))\nss udp UNCONN 0 0 [::1%lo]:161 [::]:* users:((\"snmpd\",pid=13,fd=6))\nproc tcp 0100007F:0016 123\nproc tcp6 00000000000000000000000000000000:0016 124\ninode 123 12\nholder 12 /usr/sbin/sshd ssh.service sshd: /usr/sbin/sshd -D [listener] 0 of 10-100 startups\nholder 13 /usr/sbin/snmpd - snmpd -f\nmain 12\nours 22\nowner openssh-server: /usr/sbin/sshd\ninetd telnet stream tcp nowait root /usr/sbin/tcpd in.telnetd\nunit ssh.service enabled enabled\noff foo.service masked enabled\nscript ssh\nswitched http nginx tcp:80\nagain ftp\nwritten-out tftp x\ninit ::respawn:/usr/sbin/dropbear -F\nrcs /usr/sbin/telnetd\n",
    "linux-inside": "listen LISTEN 0 128 0.0.0.0:22 0.0.0.0:*\nss 0 0 192.0.2.1:22 192.0.2.9:5555 users:((\"sshd\",pid=9,fd=4),(\"sshd\",pid=8,fd=4))\nproc tcp 01 0100007F:0016 0200007F:1234 77\nproc tcp 0A 0100007F:0016 00000000:0000 78\ninode 77 9\nholder 9 sshd 1 root sshd: root@pts/0\nholder 8 sshd 2 - sshd-session: j [priv]\nweb nginx\nconsole 1024 root sh\n",
    "pam": "daemon openssh\nusepam yes\npam sshd @include common-auth\npam common-auth auth requisite pam_faillock.so preauth deny=5 unlock_time=600\npam common-auth auth [success=2 default=ignore] pam_unix.so nullok\npam common-auth auth [default=die] pam_faillock.so authfail deny=5 unlock_time=never\npam common-auth auth required pam_permit.so\npam common-account account required pam_faillock.so\npam login auth include common-auth\npam passwd @include common-password\npam common-password password requisite pam_pwquality.so retry=3 minlen=12\npam common-password password [success=1 default=ignore] pam_unix.so obscure remember=5 minlen=6\nquality minlen = 10\nquality dictcheck=0\nfaillock deny = 4\ndictionary /x\n",
    "linux-files": "job /etc/cron.d/x\nline /etc/cron.d/x 1 2 3 4 5 root /bin/a b\nline /etc/cron.d/x @reboot root /bin/b\nline /var/spool/cron/crontabs/j 1 * * * * /bin/c\nscript /etc/cron.daily/y\nat 3 Mon Dec 1 10:00:00 2026 a root\ntimers /usr/lib/systemd/system/z.timer\ntimer Id=z.timer\ntimer FragmentPath=/usr/lib/systemd/system/z.timer\ntimer TimersCalendar={ OnCalendar=daily ; next_elapse=n/a }\ntimer -\nfile /etc/profile\nhome /root/.bashrc\nstat 644 root /etc/cron.d/x\nstat 755 root /etc/cron.daily/y\nmd5 0123456789abcdef0123456789abcdef  /etc/cron.d/x\nsha aa  /etc/cron.d/x\nown aa /etc/cron.d/x\nedited bb /etc/profile\nwas 0123456789abcdef0123456789abcdef  /etc/profile\nknown 0123456789abcdef0123456789abcdef /etc/profile\nmodel 0123456789abcdef0123456789abcdef  /etc/skel/.bashrc\nunread a file\n",
    "linux-upkeep": "rsyslogd /usr/sbin/rsyslogd -n\ntogether yes\nrsyslog *.* @192.0.2.7:514\nrsyslog auth.* @@[2001:db8::1]:6514;RSYSLOG_Format\nrsyslog action(type=\"omfwd\" target=\"a.example\" port=\"514\" protocol=\"tcp\")\nrsyslog $IncludeConfig /etc/rsyslog.d/*.conf\nrsyslog :msg, contains, \"x\" @192.0.2.8\nsyslogd syslogd -n -R 192.0.2.9:514\nchronyd yes\ntracking C0000207,192.0.2.7,3,1\nsource ^,*,192.0.2.7,2,6,377\ntimedate NTP=yes\ntimedate NTPSynchronized=yes\nntp 192.0.2.7 192.0.2.8\nntpd ntpd -n -p 192.0.2.7\n",
    "snmp-agent": "snmpd /usr/sbin/snmpd -Lo -f\nsnmpfile yes\nsnmp rocommunity published  default\nsnmp rwcommunity own\nsnmp com2sec own\nuser 0x6a6f62 .1.3.6.1.6.3.10.1.1.5 .1.3.6.1.6.3.10.1.2.4\nuser \"bob\" .1.3 .1.3\nuser odd\naccess rouser job priv\naccess rwuser bob\naccess rouser \naccess access\naccess group\n",
    "linux-web": "now 1700000000\nfile /etc/ssl/a.pem\ncert /etc/ssl/a.pem subject=CN=box\ncert /etc/ssl/a.pem issuer=CN=box\ncert /etc/ssl/a.pem notAfter=Dec  1 10:00:00 2030 GMT\n",
    "filter-families": "rule inet x y 4 [ meta load nfproto => reg 1 ] [ cmp eq reg 1 0x00000002 ] [ reject type 1 code 0 ]\nrule ip6 x y 5 [ reject type 1 code 0 ]\n",
    "packet-filter": "older 4 filter\nread o4\no4 *filter\no4 :INPUT DROP [0:0]\no4 :yardbolt - [0:0]\no4 -A INPUT -j yardbolt\no4 -A INPUT ! -s 192.0.2.0/28 -p tcp -m multiport --dports 22,80:90 -m comment --comment \"a b\" -j DROP\no4 -A yardbolt -i lo -j RETURN\no4 -A yardbolt -s 192.0.2.10/32 -p tcp -m tcp --dport 22 -m comment --comment ssh -j RETURN\no4 -A yardbolt -p tcp -m tcp --dport 22 -m comment --comment ssh -j REJECT --reject-with tcp-reset\no4 COMMIT\nno ipv6\n",
    "timed-return": "armed 120 watched\ngoing yes\n", "notice": " Keep out.\n\n", "name": "box\n",
}  # fmt: skip
ODD = [
    "",
    " ",
    "0",
    "-1",
    "999999999999999999999",
    "x" * 300,
    "\x00",
    "é",
    "=",
    ":",
    "[",
    "]",
    "*",
    "@",
    "%",
    "²",
    "1e9",
    ",",
    "\\",
    '"',
    "0x",
    "::",
    "\u2028",
    "\x85",
    "nan",
]
TREES: dict[str, Any] = {
    "linux-accounts": {"Defaults": [{"Options": [{"env_reset": True}]}, {"Binding": [{"username": "j.doe"}], "Options": [{"authenticate": False}]}], "User_Specs": [{"User_List": [{"username": "root"}], "Host_List": [{"hostname": "ALL"}], "Cmnd_Specs": [{"runasusers": [{"username": "ALL"}], "runasgroups": [{"usergroup": "ALL"}], "Options": [{"setenv": True}], "Commands": [{"command": "ALL"}]}]}, {"User_List": [{"usergroup": "sudo"}], "Host_List": [{"hostname": "ALL"}], "Cmnd_Specs": [{"runasusers": [{"username": "ALL"}], "runasgroups": [{"usergroup": "ALL"}], "Options": [{"authenticate": False}, {"setenv": True}], "Commands": [{"command": "ALL"}]}]}, {"User_List": [{"usergroup": "sudo"}], "Host_List": [{"hostname": "box"}], "Cmnd_Specs": [{"Commands": [{"command": "/bin/x"}]}]}]},
    "nftables": {"nftables": [
        {"metainfo": {"version": "1.0"}}, {"table": {"family": "inet", "name": "gate"}},
        {"set": {"family": "inet", "table": "gate", "name": "office", "flags": ["interval"], "elem": [{"prefix": {"addr": "192.0.2.0", "len": 28}}, "192.0.2.99", {"range": ["192.0.2.1", "192.0.2.3"]}, {"elem": {"val": "192.0.2.7"}}]}},
        {"map": {"family": "inet", "table": "gate", "name": "pv", "map": "verdict", "elem": [[22, {"accept": None}], [80, {"jump": {"target": "web"}}]]}},
        {"chain": {"family": "inet", "table": "gate", "name": "in", "type": "filter", "hook": "input", "prio": 0, "policy": "drop"}},
        {"chain": {"family": "inet", "table": "gate", "name": "web"}},
        {"rule": {"family": "inet", "table": "gate", "chain": "in", "handle": 4, "comment": "c", "expr": [
            {"match": {"op": "==", "left": {"payload": {"protocol": "ip", "field": "saddr"}}, "right": "@office"}},
            {"match": {"op": "in", "left": {"ct": {"key": "state"}}, "right": ["new", "established"]}},
            {"match": {"op": "==", "left": {"payload": {"protocol": "tcp", "field": "dport"}}, "right": {"set": [22, {"range": [80, 90]}]}}},
            {"counter": {"packets": 0, "bytes": 0}}, {"accept": None}]}},
        {"rule": {"family": "inet", "table": "gate", "chain": "in", "handle": 5, "expr": [
            {"vmap": {"key": {"payload": {"protocol": "tcp", "field": "dport"}}, "data": "@pv"}}]}},
        {"rule": {"family": "inet", "table": "yardbolt", "chain": "limits", "handle": 6, "expr": [
            {"match": {"op": "==", "left": {"meta": {"key": "iif"}}, "right": "lo"}}, {"reject": {"type": "tcp reset"}}]}},
    ]},
}  # fmt: skip


def spoiled(lot: random.Random, text: str) -> str:
    """A reply with a few things wrong in it."""
    lines = text.split("\n")
    for _ in range(lot.randint(1, 4)):
        at = lot.randrange(len(lines))
        words = lines[at].split(" ")
        match lot.randrange(8):
            case 0:
                del lines[at]
                lines = lines or [""]
            case 1:
                lines.insert(at, lines[at])
            case 2:
                lines[at] = lines[at][: lot.randint(0, len(lines[at]))]
            case 3:
                words[lot.randrange(len(words))] = lot.choice(ODD)
                lines[at] = " ".join(words)
            case 4:
                other = lot.choice(lines).split(" ")
                words[lot.randrange(len(words))] = lot.choice(other)
                lines[at] = " ".join(words)
            case 5:
                place = lot.randint(0, len(lines[at]))
                lines[at] = lines[at][:place] + lot.choice(ODD) + lines[at][place:]
            case 6:
                del words[lot.randrange(len(words))]
                lines[at] = " ".join(words)
            case _:
                lot.shuffle(lines)
    return "\n".join(lines)


def turned(lot: random.Random, node: Any, depth: int = 0) -> Any:
    """A tree with something of it exchanged for something else."""
    if depth > 6 or lot.random() < 0.06:
        return lot.choice(
            [
                None,
                [],
                {},
                "",
                "x",
                7,
                -1,
                True,
                [[]],
                {"set": []},
                ["@office"],
                {"a": None},
                10**30,
                "@",
                "éé",
                {"range": [1]},
            ]
        )
    if isinstance(node, dict):
        made = {
            lot.choice([k, k, k, k, "x"]) if lot.random() < 0.05 else k: turned(lot, v, depth + 1)
            for k, v in node.items()
        }
        if made and lot.random() < 0.05:
            made.pop(lot.choice(list(made)))
        return made
    if isinstance(node, list):
        made_list = [turned(lot, one, depth + 1) for one in node]
        if made_list and lot.random() < 0.1:
            made_list.insert(lot.randrange(len(made_list)), lot.choice(made_list))
        return made_list
    return node


def replies(lot: random.Random, many: int) -> Iterator[tuple[str, Replies]]:
    """The name of a decoder and a spoiled reply for it, over and over."""
    names = sorted({*TEXTS, *TREES})
    for place in range(many):
        name = names[place % len(names)]
        text = spoiled(lot, TEXTS[name]) if name in TEXTS else ""
        yield name, Replies(text, turned(lot, TREES[name]) if name in TREES else None)
