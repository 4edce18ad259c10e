"""Words that are tried first: those that people choose most, and those that images and programs come with.

Made of common words, rows of keys, names of roles and of stock accounts; all lower case, without digits at their ends.
"""

from __future__ import annotations

ACCOUNTS = frozenset(
    """
    admin administrator root user guest test tester operator oper backup service support demo default ftp ftpuser www web
    webadmin webmaster mysql postgres oracle sysadmin system manager master supervisor tech technician install installer setup
    remote vnc rdp ssh login debian ubuntu centos fedora alpine arch pi raspberry vagrant cloud ec2-user azureuser opc core
    deploy deployer ansible jenkins git svn student teacher office info sales mail postmaster nagios monitor monitoring
    """.split()
)
WORDS = ACCOUNTS | frozenset(
    """
    password passwd passw0rd pass pw pwd secret changeme change changeit letmein welcome hello qwerty qwertz azerty asdf asdfgh
    zxcvbn qwer abc abcd abcdef iloveyou love monkey dragon sunshine princess football baseball soccer hockey basketball shadow
    master freedom whatever trustno jordan hunter ranger killer pepper ginger summer winter spring autumn fall
    january february march april may june july august september october november december monday friday sunday computer internet
    network server router switch database security private public temp temporary tmp new old first last start begin open access
    allow enter entry key keys door lock house home family mother father sister brother baby angel lovely flower cookie chocolate
    coffee banana orange apple cherry purple yellow silver golden diamond money dollar happy lucky star stars moon summertime
    tigger tiger lion eagle falcon wolf bear horse dolphin butterfly spider
    ninja pirate wizard phoenix thunder lightning storm blaster hammer
    michael michelle jennifer jessica charlie thomas robert daniel andrew george joshua ashley amanda nicole maria martin peter
    anna andrea christian sebastian alexander victoria patrick richard william james john david samantha maggie buster bailey
    none null empty blank nopass nopassword unknown mypassword thepassword adminadmin rootroot passpass testtest letme
    toor alpine calvin admin admin123 nimda p4ssw0rd default1
    """.split()
)
ROWS = (
    "abcdefghijklmnopqrstuvwxyz",
    "0123456789",
    "1234567890",
    "qwertyuiop",
    "asdfghjkl",
    "zxcvbnm",
    "qwertzuiop",
    "azertyuiop",
)
