"""Files and listings as the systems' manuals show them, by guest path: what the mutating judge begins with.

Every construct that a format's manual page names stands here at least once; a mutation only reaches what a seed holds.
"""

from __future__ import annotations

from tests.guests import HASH, NFT, pub

PASSWD = (
    "root:x:0:0:root:/root:/bin/bash\nmara:x:1001:1001:Mara,,,:/home/mara:/bin/bash\njoon::1002:1002::/home/joon:\n+nis::::::\n"
)
SHADOW = f"root:!{HASH}:20000:0:99999:7:::\nmara:{HASH}:20000:1:90:7:30:20400:\njoon:*:20000::::::\n"
GROUP = "root:x:0:\nsudo:x:27:mara,joon\nmara:x:1001:\n"
SSHD = """\
# the station's
Include /etc/ssh/sshd_config.d/*.conf "/etc/ssh/more conf" relative
Port 22
ListenAddress [2001:db8::1]:2222
ListenAddress 0.0.0.0
PermitRootLogin prohibit-password
PubkeyAuthentication=yes
AuthorizedKeysFile .ssh/authorized_keys %h/.ssh/more /etc/keys/%u none
AuthenticationMethods publickey,password publickey,keyboard-interactive:pam
AllowUsers mara@192.168.40.0/24 "joon@*.skerry.example" !tove
DenyGroups games boats?
LoginGraceTime 2m30s
MaxStartups 10:30:100
RekeyLimit 1G 1h
Ciphers +aes256-ctr
MACs -*sha1
PubkeyAcceptedAlgorithms ^ssh-ed25519
PermitOpen host:22 [::1]:*
IPQoS af21 cs1
Subsystem sftp internal-sftp -u 0027
SetEnv A="b c" D=e
TrustedUserCAKeys /etc/ssh/ca.pub
StreamLocalBindMask 0177
Match User mara,!joon Address 192.168.40.0/24,2001:db8::/32,!10.* LocalPort 22
    PasswordAuthentication yes
    ForceCommand /usr/bin/true
Match Group sudo Host *.skerry.example
  AuthorizedPrincipalsFile none
Match all
"""
KEY_LINES = f"""\
# desk
{pub("mara-desk")}
from="192.168.40.0/24,!192.168.40.9,2001:db8::/32",restrict,pty,command="echo \\"hi, there\\"",permitopen="localhost:5901",expiry-time="20270331Z" {pub("joon-desk")}
cert-authority,principals="tove,crew",environment="A=b",tunnel="1",no-touch-required {pub("skerry-users")}
---- BEGIN SSH2 PUBLIC KEY ----
"""
PAM = """\
#%PAM-1.0
auth    [success=1 default=ignore new_authtok_reqd=done]    pam_unix.so nullok try_first_pass
auth    requisite                       pam_deny.so
-auth   sufficient pam_sss.so forward_pass
@include common-account
account required pam_access.so accessfile=[/etc/security/a ccess.conf] \\
   nodefgroup
account [success=ok default=bad] pam_succeed_if.so uid >= 1000 quiet user ingroup sudo
session substack system-auth
auth required pam_faillock.so preauth deny=5 unlock_time=900
auth required pam_listfile.so item=user sense=deny file=/etc/ftpusers onerr=succeed
"""
SUDOERS = """\
Defaults env_reset, !lecture, timestamp_timeout=5, secure_path="/usr/sbin:/usr/bin"
Defaults:mara !authenticate
Defaults@gauge rootpw
User_Alias CREW = mara, joon : ADMINS = %sudo, #0, %#27
Runas_Alias OP = root, charts
Host_Alias ISLE = 192.168.56.0/255.255.255.0, gauge, !plotter
Cmnd_Alias SVC = /usr/bin/systemctl restart *, sha256:abc /bin/ls, !/bin/sh
root ALL=(ALL:ALL) ALL
%sudo ALL=(ALL) NOPASSWD: SETENV: ALL, !/bin/su
CREW ISLE = (OP : sudo) PASSWD: SVC, NOEXEC: /usr/bin/vi \\
   , /bin/cat ""
+netgroup ALL = ALL
mara, !joon ALL = /bin/echo \\, \\: \\= "quoted words", ^/bin/[a-z]+$
@includedir /etc/sudoers.d
#include /etc/sudoers.local
"""
INTERFACES = """\
# written by hand
source /etc/network/interfaces.d/*
source-directory more.d
auto lo eth0
allow-hotplug eth1
no-auto-down eth0
rename mac/52:54:00:00:00:01=eth0
template base
    mtu 1500
mapping eth2
    script /usr/local/bin/map
    map HOME eth2-home
iface lo inet loopback
iface eth0 inet static
    address 192.168.56.21
    netmask 255.255.255.0
    broadcast +
    gateway 192.168.56.1
    metric 5
    dns-nameservers 192.168.56.1 2001:db8::53
    up ip route add 10.0.0.0/8 via 192.168.56.2
    pre-up iptables-restore </etc/iptables/up \\
        --noflush
    hwaddress ether 52:54:00:00:00:01
iface eth0 inet6 auto
    privext 2
    accept_ra 1
iface eth1 inherits base
iface eth1:0 inet dhcp
iface /eth*/=up/ inet6 static
    address 2001:db8:40::21/64
"""
NETPLAN = """\
network:
  version: 2
  renderer: networkd
  ethernets:
    eth0:
      match: {macaddress: "52:54:00:00:00:01", name: "en*"}
      set-name: eth0
      addresses: [192.168.56.21/24, "2001:db8::21/64": {label: "eth0:1", lifetime: 0}]
      routes: [{to: default, via: 192.168.56.1, metric: 100, on-link: true, table: 7}]
      nameservers: {addresses: [192.168.56.1], search: [skerry.example]}
      dhcp4: no
      dhcp6-overrides: {use-dns: false}
      wakeonlan: true
      optional: yes
      link-local: [ipv4]
  bridges:
    br0: {interfaces: [eth0], parameters: {stp: false}}
  vlans:
    vlan7: {id: 7, link: eth0}
  wifis:
    wlan0: {access-points: {"isle": {password: "hidden word"}}}
  nm-devices: {x: {networkmanager: {passthrough: {ipv4.method: manual}}}}
"""
NETWORK = """\
[Match]
Name=eth0 en*
MACAddress=52:54:00:00:00:01
; remark
[Network]
Address=192.168.56.21/24
Address=
Address=2001:db8::21/64
DHCP=ipv4
Gateway=192.168.56.1
DNS=192.168.56.1
DNS=2001:db8::53#dns.skerry.example
LinkLocalAddressing=no
IPv6AcceptRA=yes
[Address]
Address=192.168.56.22/24
Label=eth0:1
PreferredLifetime=0
[Route]
Gateway=192.168.56.2
Destination=10.0.0.0/8
Metric=100
GatewayOnLink=yes
[DHCPv4]
RouteMetric=5 \\
  6
UseRoutes=no
"""
PROFILE = """\
[connection]
id=wired one
uuid=0a1b2c3d-0000-4000-8000-000000000001
type=ethernet
interface-name=eth0
autoconnect-priority=5
permissions=user:mara:;
[ethernet]
mac-address=52:54:00:00:00:01
[ipv4]
method=manual
address1=192.168.56.21/24,192.168.56.1
address2=192.168.56.22/24
route1=10.0.0.0/8,192.168.56.2,100
route1_options=table=7,onlink=true
dns=192.168.56.1;
may-fail=false
[ipv6]
method=auto
ip6-privacy=2
addr-gen-mode=stable-privacy
"""
IFCFG = """\
DEVICE=eth0
TYPE="Ethernet"
BOOTPROTO='none'
ONBOOT=yes
IPADDR=192.168.56.21
IPADDR0=192.168.56.22
PREFIX=24
NETMASK1=255.255.255.0
GATEWAY=192.168.56.1 # here
IPV6INIT=yes
IPV6ADDR=2001:db8::21/64
IPV6ADDR_SECONDARIES="2001:db8::22/64 2001:db8::23/64"
DNS1=192.168.56.1
export MTU=$((1500))
"""
HOSTS_ALLOW = """\
# who
sshd : 192.168.40. 192.168.56.0/255.255.255.0 [2001:db8::]/32 .skerry.example EXCEPT 192.168.40.9 : allow
ALL EXCEPT sftp : LOCAL, KNOWN, mara@gauge, @netgroup : spawn (/bin/echo %h | mail root) & \\
  : DENY
sshd@192.168.56.21 : ALL : severity local0.info : twist /bin/false
sshd : /etc/hosts.who
"""
RULES_V4 = """\
# Generated
*raw
:PREROUTING ACCEPT [0:0]
-A PREROUTING -p tcp --dport 22 -j NOTRACK
COMMIT
*filter
:INPUT DROP [10:2000]
:FORWARD ACCEPT [0:0]
:ssh-in - [0:0]
-A INPUT -i lo -j ACCEPT
-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
-A INPUT -p icmp -m icmp --icmp-type 8/0 -m limit --limit 5/sec --limit-burst 10 -j ACCEPT
-A INPUT ! -s 192.168.40.0/255.255.255.0 -p tcp -m tcp ! --dport 22:23 -m comment --comment "a \\"b\\" c" -j DROP
-A INPUT -p tcp -m multiport --dports 22,2222:2230 -m set --match-set bench src,dst -g ssh-in
-A INPUT -m iprange --src-range 192.168.40.1-192.168.40.9 -m mac --mac-source 52:54:00:00:00:01 -m recent --update --seconds 60 --hitcount 4 --name SSH --rsource -j DROP
-A ssh-in -m owner --uid-owner 0-99 -m mark --mark 0x1/0xff -j RETURN
-A ssh-in -m addrtype --dst-type LOCAL -m time --timestart 08:00 --weekdays Mo,Tu -j LOG --log-prefix "in: "
[1:60] -A ssh-in -p tcp -m tcp --tcp-flags FIN,SYN,RST,ACK SYN -m connlimit --connlimit-above 3 -j REJECT --reject-with tcp-reset
-I INPUT 1 -s 192.0.2.7 -j ACCEPT
-P FORWARD DROP
COMMIT
*nat
:PREROUTING ACCEPT [0:0]
-A PREROUTING -p tcp --dport 2222 -j DNAT --to-destination 192.168.56.21:22-30
-A PREROUTING -p tcp --dport 2223 -j REDIRECT --to-ports 22
COMMIT
"""
IPSETS = """\
create bench hash:net family inet hashsize 1024 maxelem 65536 timeout 300
add bench 192.168.40.0/24 timeout 20
add bench 192.168.41.9 nomatch
create doors hash:ip,port
add doors 192.168.40.1,tcp:22
create group list:set size 8
add group bench
"""
NFTABLES = """\
#!/usr/sbin/nft -f
flush ruleset
include "/etc/nftables.d/*.nft"
define bench = { 192.168.40.0/24, 192.168.41.1-192.168.41.9 }
define extra = 22
table inet filter {
	comment "ours"
	flags dormant;
	set doors { type inet_service; flags interval, timeout; elements = { 22, 2200-2222 timeout 1h }; auto-merge; }
	set pairs { type ipv4_addr . inet_service; elements = { 192.168.40.1 . 22 } ; }
	map verdicts { type ipv4_addr : verdict; elements = { 192.0.2.1 : drop, 192.0.2.2 : jump other } }
	counter seen {
		packets 1 bytes 2
	}
	chain other { return; }
	chain input {
		type filter hook input priority filter + 10; policy drop;
		ct state vmap { established : accept, related : accept, invalid : drop }
		iif "lo" accept
		iifname { "eth0", "en*" } ip saddr $bench tcp dport @doors counter accept comment "the bench"
		meta l4proto { icmp, ipv6-icmp } limit rate over 5/second burst 3 packets drop
		ip saddr . tcp dport @pairs accept
		ip saddr & 255.255.255.0 == 192.168.56.0 tcp flags & (fin|syn) == syn ct count over 4 reject with icmpx type port-unreachable
		tcp dport != { 22, 80 } log prefix "in: " level warn group 2 queue num 1 bypass
		ip6 saddr fe80::/10 meta mark set ct mark and 0xff tcp sport 1024-65535 th dport ssh jump other
		ip saddr vmap @verdicts
		meta time "2026-11-30 10:00:00" meta hour 08:00-18:00 meta day { Monday, 2 } fib daddr type local accept
		add @seen { ip saddr timeout 60s limit rate 3/minute } accept
		icmp type echo-request icmpv6 type { nd-neighbor-solicit, nd-router-advert } goto other
	}
}
table ip nat {
	chain pre { type nat hook prerouting priority dstnat; tcp dport 2222 dnat to 192.168.56.21:22; tcp dport 2 redirect to :22; }
	chain post { type nat hook postrouting priority 100; masquerade random; }
}
add rule inet filter input position 3 tcp dport 23 drop
insert rule inet filter input index 0 ip saddr 192.0.2.9 accept
delete table ip nat
""" + NFT.format(rule="tcp dport 22 accept").replace("#!/usr/sbin/nft -f\nflush ruleset\n", "")
ZONE = """\
<?xml version="1.0" encoding="utf-8"?>
<zone target="DROP">
  <short>Isle &amp; bench</short>
  <interface name="eth0"/>
  <source address="192.168.40.0/24"/>
  <source ipset="bench"/>
  <service name="ssh"/>
  <port port="2200-2222" protocol="tcp"/>
  <icmp-block name="echo-request"/>
  <forward-port port="2222" protocol="tcp" to-port="22" to-addr="192.168.56.21"/>
  <rule family="ipv4" priority="-5"><source address="192.0.2.0/24" invert="true"/><port port="22" protocol="tcp"/><log prefix="in" level="info"><limit value="3/m"/></log><accept/></rule>
  <rule><source mac="52:54:00:00:00:01"/><service name="ssh"/><reject type="tcp-reset"/></rule>
  <masquerade/>
</zone>
"""
POLICY = '<policy target="CONTINUE" priority="-1"><ingress-zone name="ANY"/><egress-zone name="HOST"/><service name="ssh"/><rule><port port="22" protocol="tcp"/><drop/></rule></policy>\n'
SERVICE = '<service version="1"><short>SSH</short><port protocol="tcp" port="22"/><include service="ssh"/><destination ipv4="192.168.56.21"/><helper name="ftp"/></service>\n'
IPSET = '<ipset type="hash:net"><option name="family" value="inet"/><option name="timeout" value="5"/><entry>192.168.40.0/24</entry><entry>192.168.41.1</entry></ipset>\n'
DIRECT = '<direct><chain ipv="ipv4" table="filter" chain="mine"/><rule ipv="ipv4" table="filter" chain="INPUT" priority="0">-p tcp --dport 22 -j ACCEPT</rule><passthrough ipv="ipv6">-I INPUT -j DROP</passthrough></direct>\n'
FIREWALLD = (
    "DefaultZone=public\nFirewallBackend=nftables # or iptables\nIPv6_rpfilter=yes\nLogDenied=off\nAllowZoneDrifting = no\n"
)
UFW_CONF = "ENABLED=yes\nLOGLEVEL=low\n"
UFW_DEFAULTS = 'IPV6=yes\nDEFAULT_INPUT_POLICY="DROP"\nDEFAULT_OUTPUT_POLICY="ACCEPT"\nMANAGE_BUILTINS=no\n'
UFW_RULES = """\
*filter
:ufw-user-input - [0:0]
:ufw-user-limit - [0:0]
### tuple ### limit tcp 22 0.0.0.0/0 any 192.168.40.0/24 in comment=6265
-A ufw-user-input -p tcp --dport 22 -s 192.168.40.0/24 -m conntrack --ctstate NEW -m recent --set
-A ufw-user-input -p tcp --dport 22 -s 192.168.40.0/24 -j ufw-user-limit
COMMIT
"""
UNIT = """\
[Unit]
Description=Secure shell
After=network.target
[Service]
EnvironmentFile=-/etc/default/ssh
ExecStartPre=/usr/sbin/sshd -t
ExecStart=
ExecStart=/usr/sbin/sshd -D -f /etc/ssh/sshd_config -o Port=2222 -p 22 $SSHD_OPTS
IPAddressAllow=192.168.40.0/24 localhost
IPAddressDeny=any
IPAddressAllow=
[Install]
WantedBy=multi-user.target
Alias=sshd.service
"""
SOCKET = "[Socket]\nListenStream=22\nListenStream=[2001:db8::1]:2222\nListenStream=\nListenStream=/run/x\nBindIPv6Only=ipv6-only\nBindToDevice=eth0\nAccept=no\nFreeBind=yes\n"
DPKG = "Package: openssh-server\nStatus: install ok installed\nVersion: 1:9.2p1-2+deb12u3\nDescription: a\n b\n .\n\nPackage: sudo\nStatus: install ok installed\nVersion: 1.9\n"
HOSTS = "127.0.0.1 localhost\n192.168.56.21\tgauge.skerry.example gauge # here\nfe80::1%eth0 ip6\n"
RESOLV = (
    "nameserver 192.168.56.1\nnameserver fe80::1%eth0\nsearch skerry.example isle\noptions ndots:1 timeout:2 rotate\ndomain x\n"
)
LEASES = """\
lease {
  interface "eth0";
  fixed-address 192.168.56.101;
  option subnet-mask 255.255.255.0;
  option routers 192.168.56.1;
  option dhcp-server-identifier 192.168.56.2;
  expire 2 2026/12/01 10:00:00;
  renew epoch 1798765432; # a remark
}
"""
NETWORKD_LEASE = (
    "# This is private data\nADDRESS=192.168.56.101\nNETMASK=255.255.255.0\nROUTER=192.168.56.1\nLIFETIME=3600\nCLIENTID=01\n"
)
DNSMASQ = (
    "1798765432 52:54:00:00:00:01 192.168.56.101 gauge 01:52:54:00:00:00:01\n0 52:54:00:00:00:02 2001:db8::9 * *\nduid 00:01\n"
)
NM_LEASE = "[Device]\naddress=192.168.56.101\nexpiry=1798765432\n"

# Which file each reading takes, and what its format allows.
FILES: dict[str, str] = {
    "/etc/passwd": PASSWD,
    "/etc/shadow": SHADOW,
    "/etc/group": GROUP,
    "/etc/ssh/sshd_config": SSHD,
    "/etc/ssh/sshd_config.d/10.conf": SSHD.partition("relative\n")[2].replace("Subsystem sftp", "Subsystem more"),
    "/home/mara/.ssh/authorized_keys": KEY_LINES,
    "/etc/pam.d/sshd": PAM,
    "/etc/sudoers": SUDOERS,
    "/etc/sudoers.d/crew": SUDOERS,
    "/etc/network/interfaces": INTERFACES,
    "/etc/netplan/50.yaml": NETPLAN,
    "/etc/systemd/network/10-eth0.network": NETWORK,
    "/etc/NetworkManager/system-connections/wired.nmconnection": PROFILE,
    "/etc/sysconfig/network-scripts/ifcfg-eth0": IFCFG,
    "/etc/hosts.allow": HOSTS_ALLOW,
    "/etc/iptables/rules.v4": RULES_V4,
    "/etc/iptables/ipsets": IPSETS,
    "/etc/nftables.conf": NFTABLES,
    "/etc/firewalld/zones/public.xml": ZONE,
    "/etc/firewalld/policies/own.xml": POLICY,
    "/etc/firewalld/services/ssh.xml": SERVICE,
    "/etc/firewalld/ipsets/bench.xml": IPSET,
    "/etc/firewalld/direct.xml": DIRECT,
    "/etc/firewalld/firewalld.conf": FIREWALLD,
    "/etc/ufw/ufw.conf": UFW_CONF,
    "/etc/default/ufw": UFW_DEFAULTS,
    "/etc/ufw/user.rules": UFW_RULES,
    "/etc/ufw/before.rules": RULES_V4,
    "/lib/systemd/system/ssh.service": UNIT,
    "/etc/systemd/system/ssh.service.d/a.conf": UNIT,
    "/var/lib/dpkg/status": DPKG,
    "/etc/hosts": HOSTS,
    "/etc/resolv.conf": RESOLV,
    "/var/lib/dhcp/dhclient.leases": LEASES,
    "/run/systemd/netif/leases/2": NETWORKD_LEASE,
    "/var/lib/misc/dnsmasq.leases": DNSMASQ,
    "/etc/default/ssh": "SSHD_OPTS='-o Port=22'\n",
    "/etc/os-release": 'ID=debian\nVERSION_ID="12"\nID_LIKE="a b"\n',
    "/etc/hostname": "gauge\n",
    "/etc/adjtime": "0.0 0 0.0\n0\nLOCAL\n",
    "/etc/security/access.conf": "+:mara:192.168.40.0/24\n-:ALL EXCEPT root (sudo) @net:ALL EXCEPT LOCAL .skerry.example cron tty1\n",
    "/etc/ssh/ca.pub": pub("skerry-users") + "\n",
    "/etc/nsswitch.conf": "passwd: files systemd sss [NOTFOUND=return]\nhosts: files dns\n",
}

# The same with what the systems' programs refuse.
WILD: dict[str, str] = {
    "/etc/ssh/sshd_config": SSHD.replace(
        "Match all", "Ciphers +-*cbc\nPersourcePenalties crash:90s\nPermitOpen none a:1\nMatch all"
    ),
    "/etc/netplan/50.yaml": NETPLAN.replace("optional: yes", "optional: &yes true\n      wakeonlan: *yes\n      <<: {a: b}"),
    "/etc/NetworkManager/system-connections/wired.nmconnection": PROFILE.replace(
        "method=auto", "addresses=2001:db8::1/64;x;\nmethod=auto"
    ),
    "/etc/nftables.conf": NFTABLES.replace("define extra", "define $extra").replace("counter seen {\n", "counter seen { "),
    "/etc/firewalld/zones/public.xml": ZONE.replace("<zone ", "<!DOCTYPE zone [<!ENTITY a 'b'>]>\n<zone "),
}

LISTINGS: dict[str, str] = {
    "sockets": 'tcp LISTEN 0 128 0.0.0.0:22 0.0.0.0:* ino:12 sk:1\ntcp LISTEN 0 128 [::]%eth0:2222 [::]:* users:(("sshd",pid=7,fd=3)) ino:13\nudp UNCONN 0 0 *:68 *:*\n',
    "holders": "12 7\n13 8\n",
    "programs": "7 /usr/sbin/sshd\n",
    "owners": "7 /usr/sbin/sshd\n",
    "daemons": "pid 7\ntitle sshd: /usr/sbin/sshd -D [listener]\nprogram /usr/sbin/sshd\nuids 0 0 0 0\nparent 1\nstarted 12345\nholds 12\ngroup /system.slice/ssh.service\n",
    "units": "Id=ssh.service\nLoadState=loaded\nActiveState=active\nUnitFileState=enabled\nMainPID=7\nListen=[::]:22 (Stream)\nExecMainStartTimestamp=@1798765432\nFragmentPath=/lib/systemd/system/ssh.service\nDropInPaths=\n\nId=ssh.socket\nLoadState=not-found\n",
    "addresses": "2: eth0    inet 192.168.56.21/24 brd 192.168.56.255 scope global dynamic eth0\\       valid_lft 3000sec preferred_lft forever\n2: eth0 inet6 fe80::1/64 scope link tentative\n",
    "links": "2: eth0@if3: <BROADCAST,MULTICAST,UP,LOWER_UP> mtu 1500 qdisc noqueue state UP mode DEFAULT group default qlen 1000\\    link/ether 52:54:00:00:00:01 brd ff:ff:ff:ff:ff:ff\n",
    "routes": "default via 192.168.56.1 dev eth0 proto dhcp metric 100\nunreachable 10.0.0.0/8\n192.168.56.0/24 dev eth0 proto kernel scope link src 192.168.56.21\n",
    "neighbours": "192.168.56.2 dev eth0 lladdr 52:54:00:00:00:02 REACHABLE\nfe80::2 dev eth0 router FAILED\n",
    "rules": NFTABLES,
    "tables": RULES_V4,
    "tables6": RULES_V4,
    "older": RULES_V4,
    "sets": IPSETS,
    "routes6": "default via fe80::1 dev eth0 metric 1024 pref medium\n",
    "clock": "NTPSynchronized=yes\nTimezone=Atlantic/Faroe\nTimeUSec=Mon 2026-11-30 06:46:23 UTC\nstratum 3 offset 0.001\n",
}
