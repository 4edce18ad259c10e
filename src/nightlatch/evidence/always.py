"""What is read of every guest about SSH, its accounts, filter and network: files, paths that are only looked at, folders."""

from __future__ import annotations

from nightlatch.formats import pam, rule_loads
from nightlatch.systems import automatic_logins, posix

# One for each name a policy goes by (SELINUXTYPE in selinux(8)).
PORT_LABELS = tuple(f"/var/lib/selinux/{kind}/active/ports.local" for kind in ("targeted", "default", "mls", "minimum", "strict"))
UNIT_TOPS = (posix.UNIT_FOLDERS[0], posix.UNITS_SET, posix.UNIT_FOLDERS[1])
FILTER_LINKS = tuple(
    f"/etc/systemd/system/{folder}{unit}.service"
    for folder in ("", "sysinit.target.wants/", "basic.target.wants/", "multi-user.target.wants/")
    for unit in ("nftables", "netfilter-persistent", "iptables", "ip6tables", "ufw", "firewalld")
)
# Those that firewalld's own zones name, and doors; others are read where they stand in /etc.
FIREWALLD_SERVICES = tuple(
    f"/usr/lib/firewalld/services/{name}.xml"
    for name in tuple(
        """
    ssh dhcpv6-client cockpit mdns samba-client netbios-ns dhcp dns rdp vnc-server http https ipp-client
""".split()
    )
)
FILES = (
    "/etc/os-release",
    "/etc/hostname",
    "/etc/passwd",
    "/etc/group",
    "/etc/shadow",
    "/etc/nsswitch.conf",
    "/etc/nologin",
    "/etc/default/ssh",
    "/etc/sysconfig/sshd",
    "/etc/sudoers",
    "/etc/security/access.conf",
    "/etc/security/faillock.conf",
    "/etc/hosts.allow",
    "/etc/hosts.deny",
    "/etc/nftables.conf",
    "/etc/sysconfig/nftables.conf",
    "/etc/nightlatch.nft",
    "/etc/iptables/rules.v4",
    "/etc/iptables/rules.v6",
    "/etc/sysconfig/iptables",
    "/etc/sysconfig/ip6tables",
    *(
        f"/etc/{name}"
        for name in tuple(
            """
    iptables.rules ip6tables.rules iptables.up.rules ip6tables.up.rules iptables.conf network/iptables.rules
    network/iptables nftables.rules
""".split()
        )
    ),  # as recipes for ifupdown call them
    "/etc/iptables/ipsets",
    "/etc/sysconfig/ipset",
    "/etc/default/ufw",
    "/etc/ufw/ufw.conf",
    *(f"/etc/ufw/{name}{six}.rules" for name in ("before", "after", "user") for six in ("", "6")),
    "/etc/firewalld/firewalld.conf",
    "/etc/firewalld/direct.xml",
    *FIREWALLD_SERVICES,
    "/var/lib/dpkg/status",
    "/lib/systemd/system/ssh.service",
    "/etc/systemd/system/ssh.service",
    "/lib/systemd/system/sshd.service",
    "/usr/lib/systemd/system/sshd.service",
    "/etc/systemd/system/sshd.service",
    *(f"{top}/{unit}" for top in posix.UNIT_FOLDERS for unit in ("ssh.socket", "sshd.socket")),
    "/etc/systemd/system/system.slice",
    "/etc/systemd/system/-.slice",
    "/etc/hosts",
    "/etc/resolv.conf",
    "/etc/machine-id",
    "/etc/network/interfaces",
    "/etc/systemd/resolved.conf",
    "/etc/selinux/config",
    posix.JOB_TABLE,
    "/etc/sssd/sssd.conf",
    *PORT_LABELS,
    "/etc/timezone",
    "/etc/adjtime",
    "/etc/NetworkManager/NetworkManager.conf",
    *automatic_logins.FILES,
    "/var/lib/misc/dnsmasq.leases",
    "/var/lib/dhcp/dhcpd.leases",
    "/var/lib/nightlatch/lock/id",
    "/var/lib/nightlatch/lock/who",  # what is on the latch
)
LOOKED_AT = (
    posix.SSHD,
    "/etc/systemd/system/multi-user.target.wants/ssh.service",
    "/etc/ssh/sshd_not_to_be_run",
    "/etc/systemd/system/multi-user.target.wants/firewalld.service",
    *FILTER_LINKS,
    "/etc/ufw/before.init",
    "/etc/ufw/after.init",
    *pam.CODES_PLACES,
    "/usr/bin/sudo",
    "/bin/su",
    "/bin/sh",
    "/lib/systemd/systemd-networkd",
    "/usr/sbin/NetworkManager",
    "/sbin/ifup",
    "/usr/sbin/netplan",
    "/usr/bin/cloud-init",
    *(
        f"{folder}/{unit}"
        for folder in (
            "/etc/systemd/system/multi-user.target.wants",
            "/etc/systemd/system/network-online.target.wants",
            "/usr/lib/systemd/system/multi-user.target.wants",
        )
        for unit in ("systemd-networkd.service", "NetworkManager.service", "networking.service")
    ),
    *(
        f"/etc/systemd/system/{target}.target.wants/{unit}.service"
        for target in ("sysinit", "multi-user")
        for unit in ("systemd-timesyncd", "chrony", "chronyd", "ntp", "ntpd", "ntpsec", "openntpd")
    ),
    "/lib/systemd/systemd",
    "/lib/systemd/systemd-timesyncd",
    "/usr/sbin/chronyd",
    "/usr/sbin/ntpd",
    "/etc/localtime",
    "/run/systemd/container",
    "/etc/cloud/cloud-init.disabled",
    "/etc/cloud/cloud.cfg.d/99-disable-network-config.cfg",
)
CHANGES, MOST_CHANGES = "/var/lib/nightlatch/changes", 10  # records of our own changes; no more are kept
FOLDERS = (
    CHANGES,
    "/etc/ssh",
    "/etc/ssh/sshd_config.d",
    "/etc/ssh/ssh_config.d",
    "/etc/sudoers.d",
    "/etc/pam.d",
    "/etc/nftables.d",
    "/etc/nftables",
    "/etc/firewalld/services",
    *rule_loads.FOLDERS,
    *automatic_logins.FOLDERS,
    *posix.JOB_FOLDERS,
    posix.JOB_TABLES,
    "/etc/sssd/conf.d",
    *(f"{top}/firewalld/{kind}" for top in ("/etc", "/usr/lib") for kind in ("zones", "policies", "ipsets")),
    *(
        f"{top}/{name}.d"
        for top in UNIT_TOPS
        for name in tuple(
            """
    ssh.service sshd.service ssh.socket sshd.socket service socket slice system.slice -.slice
""".split()
        )
    ),
    "/etc/netplan",
    "/usr/lib/netplan",
    "/run/netplan",
    "/etc/systemd/network",
    "/run/systemd/network",
    "/etc/NetworkManager/system-connections",
    "/run/NetworkManager/system-connections",
    "/usr/lib/NetworkManager/system-connections",
    "/etc/network/interfaces.d",
    "/etc/sysconfig/network-scripts",
    "/etc/sysconfig/network",
    "/etc/systemd/resolved.conf.d",
    "/run/systemd/netif/leases",
    "/var/lib/dhcp",
    "/var/lib/NetworkManager",
)
