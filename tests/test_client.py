"""The SSH client's configuration: every option of it, held against the client that is installed."""

from __future__ import annotations

import gzip
import os
import pwd
import re
import shutil
import subprocess
import tempfile
from pathlib import Path

import pytest

from nightlatch.faults import NightlatchError, UnreachableError
from nightlatch.transports import client_files, client_options
from nightlatch.transports.client_options import OPTIONS, OptionUse
from nightlatch.transports.ssh import Address, Client, Ssh

pytestmark = pytest.mark.judge("ssh")
PIN = "SHA256:" + "A" * 43
# What a user's file says: for what is set, something else; for the rest, something that the client takes and -G shows.
THEIRS = {
    "StrictHostKeyChecking": "no",
    "NoHostAuthenticationForLocalhost": "yes",
    "VerifyHostKeyDNS": "yes",
    "CheckHostIP": "yes",
    "UpdateHostKeys": "yes",
    "FingerprintHash": "md5",
    "GSSAPIKeyExchange": "yes",
    "KnownHostsCommand": "/bin/true",
    "UserKnownHostsFile": "/tmp/theirs",
    "GlobalKnownHostsFile": "/tmp/theirs",
    "ForwardAgent": "yes",
    "ForwardX11": "yes",
    "ClearAllForwardings": "no",
    "Tunnel": "ethernet",
    "GSSAPIDelegateCredentials": "yes",
    "SetEnv": "THEIRS=1",
    "SendEnv": "THEIRS_*",
    "PermitLocalCommand": "yes",
    "AddKeysToAgent": "yes",
    "RemoteCommand": "/bin/false",
    "SessionType": "none",
    "RequestTTY": "force",
    "EscapeChar": "x",
    "StdinNull": "yes",
    "ForkAfterAuthentication": "yes",
    "ControlMaster": "auto",
    "ControlPath": "/tmp/theirs",
    "ControlPersist": "yes",
    "ConnectTimeout": "900",
    "ConnectionAttempts": "9",
    "ServerAliveInterval": "0",
    "ServerAliveCountMax": "99",
    "BatchMode": "no",
    "LogLevel": "QUIET",
    "LogVerbose": "*:*:*",
    "AddressFamily": "inet",
    "BindAddress": "127.0.0.2",
    "BindInterface": "lo",
    "CanonicalDomains": "skerry.example",
    "CanonicalizeFallbackLocal": "no",
    "CanonicalizeHostname": "no",
    "CanonicalizeMaxDots": "3",
    "CanonicalizePermittedCNAMEs": "none",
    "HostKeyAlias": "alias.skerry.example",
    "Hostname": "192.0.2.9",
    "IPQoS": "lowdelay throughput",
    "Port": "2022",
    "ProxyCommand": "/bin/false",
    "ProxyJump": "none",
    "ProxyUseFdpass": "yes",
    "TCPKeepAlive": "no",
    "User": "mara",
    "CertificateFile": "/tmp/theirs-cert.pub",
    "GSSAPIAuthentication": "no",
    "GSSAPIClientIdentity": "mara",
    "HostbasedAuthentication": "yes",
    "EnableSSHKeysign": "yes",
    "IdentitiesOnly": "yes",
    "IdentityAgent": "none",
    "IdentityFile": "/tmp/theirs",
    "KbdInteractiveAuthentication": "no",
    "KbdInteractiveDevices": "pam",
    "NumberOfPasswordPrompts": "1",
    "PKCS11Provider": "none",
    "PasswordAuthentication": "no",
    "PreferredAuthentications": "publickey",
    "PubkeyAuthentication": "no",
    "SecurityKeyProvider": "internal",
    "CASignatureAlgorithms": "ssh-ed25519",
    "Ciphers": "aes256-ctr",
    "Compression": "yes",
    "HostKeyAlgorithms": "ssh-ed25519",
    "HostbasedAcceptedAlgorithms": "ssh-ed25519",
    "KexAlgorithms": "curve25519-sha256",
    "MACs": "hmac-sha2-256",
    "PubkeyAcceptedAlgorithms": "ssh-ed25519",
    "RekeyLimit": "1G 1h",
    "RequiredRSASize": "2048",
    "IgnoreUnknown": "Theirs",
    "RevokedHostKeys": "/dev/null",
    "DynamicForward": "1080",
    "ExitOnForwardFailure": "yes",
    "ForwardX11Timeout": "5",
    "ForwardX11Trusted": "yes",
    "GatewayPorts": "yes",
    "LocalForward": "9 127.0.0.1:9",
    "PermitRemoteOpen": "none",
    "RemoteForward": "9 127.0.0.1:9",
    "StreamLocalBindMask": "0111",
    "StreamLocalBindUnlink": "yes",
    "TunnelDevice": "7",
    "XAuthLocation": "/bin/false",
    "EnableEscapeCommandline": "yes",
    "VisualHostKey": "yes",
    "LocalCommand": "/bin/false",
    "HashKnownHosts": "yes",
    "SyslogFacility": "LOCAL7",
    "GSSAPIKexAlgorithms": "gss-group14-sha256-",
    "GSSAPIRenewalForcesRekey": "yes",
    "GSSAPIServerIdentity": "theirs",
    "GSSAPITrustDns": "yes",
    "ChannelTimeout": "session=9",
    "ObscureKeystrokeTiming": "no",
    "Tag": "theirs",
    "RefuseConnection": "theirs",
    "Version": "theirs",
    "VersionAddendum": "theirs",
    "WarnWeakCrypto": "no",
}
BLOCKS = ("Host", "Match", "Include")
UNLIKE = {"BindInterface", "Hostname"}  # -G shows an address where it looked a name up


def table() -> str:
    """The table of docs/ssh-client.md."""
    rows = [f"| {each.name} | {each.use.value}{f': `{each.value}`' if each.value else ''} | {each.why} |\n" for each in OPTIONS]
    return "| option | what becomes of it | why |\n|---|---|---|\n" + "".join(rows)


def test_the_documented_table_is_the_one_that_counts() -> None:
    text = (Path(__file__).parents[1] / "docs/ssh-client.md").read_text()
    assert text.endswith(table()), "the table is made by tests.test_client.table()"


def asked(*lines: str, command: tuple[str, ...] = ()) -> dict[str, list[str]]:
    """What the installed client says of a configuration with these lines; empty where it does not know one of the words."""
    done = subprocess.run(
        ["ssh", "-F", "/dev/stdin", "-G", "guest", *command],
        input="\n".join(lines) + "\n",
        text=True,
        capture_output=True,
    )
    return told(done.stdout) if done.returncode == 0 else {}


def told(text: str) -> dict[str, list[str]]:
    words = {"true": "yes", "false": "no"}
    out: dict[str, list[str]] = {}
    for line in text.splitlines():
        name, _, value = line.partition(" ")
        out.setdefault(name.lower(), []).append(words.get(value, value))
    return out


def configured(tmp_path: Path, text: str, **more: object) -> dict[str, list[str]]:
    own = tmp_path / "theirs"
    own.write_text(text)
    with Client(own) as client:
        shell = Ssh("guest", Address("guest"), client, **more)  # type: ignore[arg-type]
        done = subprocess.run([*shell.words(), "-G", "--", "guest"], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    return told(done.stdout)


def test_the_table_holds_every_option_that_the_installed_client_knows() -> None:
    names = {each.name.lower() for each in OPTIONS}
    assert len(names) == len(OPTIONS), "an option stands twice"
    assert (
        not set(told(subprocess.run(["ssh", "-F", "none", "-G", "guest"], capture_output=True, text=True).stdout))
        - names
        - {"host"}
    )
    page = Path("/usr/share/man/man5/ssh_config.5.gz")  # small systems leave manuals out; -G names most options
    text = gzip.decompress(page.read_bytes()).decode() if page.exists() else ""
    assert not {name.lower() for name in re.findall(r"^\.It Cm ([A-Z][A-Za-z0-9]+)", text, re.MULTILINE)} - names
    assert {each.name for each in OPTIONS} == {*THEIRS, *BLOCKS}, "each option is tried"


@pytest.mark.parametrize("option", [each for each in OPTIONS if each.name not in BLOCKS], ids=lambda each: each.name)
def test_each_option_is_set_cleared_or_the_users(option: client_options.ClientOption, tmp_path: Path) -> None:
    name, theirs = option.name.lower(), THEIRS[option.name]
    plain = asked("Port 22")
    with_theirs = asked(f"{option.name} {theirs}") or asked(f"{option.name} {theirs}", command=("true",))
    if not with_theirs:
        assert name not in plain, f"the client names {option.name} and does not take {theirs}"
        return  # another release's option
    found = configured(tmp_path, f"{option.name} {theirs}\n", pins=(PIN,))
    if option.use is OptionUse.SET:
        wanted = option.value or "yes"
        assert found.get(name, ["none"]) == [wanted] or found[name] == asked(f"{option.name} {wanted}").get(name, ["none"])
        assert theirs not in found.get(name, [])
    elif option.use is OptionUse.CLEARED:
        assert theirs in with_theirs[name]
        assert name not in found
    elif option.use is OptionUse.PINNED:
        assert theirs not in found[name]
        assert (
            found[name] == [option.value] if option.value else re.search(r"known-guest-[0-9a-f]{8} %H %t %K %f", found[name][0])
        )
        assert configured(tmp_path, f"{option.name} {theirs}\n")[name] == with_theirs[name], "without a pin it is the user's"
    elif option.use is OptionUse.ALLOWED and option.name not in UNLIKE:
        assert found.get(name) == with_theirs.get(name)


def test_a_users_own_files_are_read_as_the_client_reads_them(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    assert configured(tmp_path, "Host other\n  Port 9\nHost guest\n  Port 2022\n  User mara\nHost *\n  Port 7\n  SendEnv X Y\n")[
        "port"
    ] == ["2022"]
    assert configured(tmp_path, "Match host guest exec true\n  User joon\n")["user"] == ["joon"]
    found = configured(
        tmp_path, "Host other\n  SendEnv *\nMatch final host guest\n  SendEnv *\n  ForwardAgent yes\n  SetEnv A=b\n"
    )
    assert "sendenv" not in found
    assert found["forwardagent"] == ["no"]
    assert found["setenv"] == ["LC_ALL=C"]
    monkeypatch.setattr(client_files, "SYSTEM", tmp_path / "system")
    (tmp_path / "system").write_text("Host *\n  Port 9\n")
    with Client() as client:
        said = subprocess.run(
            [*Ssh("guest", Address("guest"), client).words(), "-G", "--", "guest"], capture_output=True, text=True
        ).stdout
    assert told(said)["port"] == ["9"]
    (tmp_path / "system").write_text("Host *\n  Include more/*.conf\n")
    with Client() as client, pytest.raises(NightlatchError, match=r"Include without a whole path.*--ssh-config"):
        client.files()


def test_a_users_file_that_others_may_write_is_refused(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / ".ssh").mkdir()
    (tmp_path / ".ssh/config").write_text("Host *\n")
    (tmp_path / ".ssh/config").chmod(0o666)
    entry = pwd.getpwuid(os.getuid())
    monkeypatch.setattr(pwd, "getpwuid", lambda uid: type(entry)((*entry[:5], str(tmp_path), entry[6])))
    with Client() as client, pytest.raises(NightlatchError, match=r"others may write this file.*chmod 600"):
        client.files()


@pytest.mark.parametrize("name", ["a plain one", "100%h", "%d %%", "tab\there", "ünï code", "#remark", "it's", "a=b"])
def test_paths_with_blanks_and_marks(name: str, tmp_path: Path) -> None:
    folder = tmp_path / name
    folder.mkdir()
    (folder / "their config").write_text("User mara\n")
    with Client(folder / "their config") as client:
        shell = Ssh("guest", Address("guest"), client, pins=(PIN,), key=folder / "the key")
        done = subprocess.run([*shell.words(), "-G", "--", "guest"], capture_output=True, text=True)
        found = told(done.stdout)
        assert found["user"] == ["mara"], done.stderr
        assert found["identityfile"][0].replace("%%", "%") == str(folder / "the key")
        assert client_files.PLAIN.fullmatch(str(client.folder()))


@pytest.mark.parametrize("name", ["${HOME}", 'a"b', "a\\b", "a\nb"])
def test_paths_that_the_client_cannot_be_given_are_refused(name: str, tmp_path: Path) -> None:
    with Client(Path("/dev/null")) as client, pytest.raises(NightlatchError, match="rename it"):
        Ssh("guest", Address("guest"), client, key=tmp_path / name).words()


def test_the_work_folder_has_a_plain_name_whatever_tmpdir_says(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    odd = tmp_path / "a b %h"
    odd.mkdir()
    monkeypatch.setattr(tempfile, "gettempdir", lambda: str(odd))
    with Client(Path("/dev/null")) as client:
        folder = client.folder()
        assert client_files.PLAIN.fullmatch(str(folder))
        assert folder.stat().st_mode & 0o777 == 0o700
    assert not folder.exists()


def test_a_missing_client_is_one_message(tmp_path: Path) -> None:
    with (
        Client(Path("/dev/null"), program=str(tmp_path / "none")) as client,
        pytest.raises(UnreachableError, match="there is no ssh program"),
    ):
        Ssh("guest", Address("guest"), client).run(b"true\n")
    assert shutil.which("ssh")
    odd = tmp_path / "odd"
    odd.write_text("#!/bin/sh\necho unknown option -G >&2\nexit 255\n")
    odd.chmod(0o755)
    with (
        Client(Path("/dev/null"), program=str(odd)) as client,
        pytest.raises(NightlatchError, match=r"does not tell.*unknown option -G"),
    ):
        Ssh("guest", Address("guest"), client).run(b"true\n")


def test_each_guest_is_asked_about_by_its_name() -> None:
    questions: list[str] = []
    answers = iter(["first", "", "third", "again"])

    def ask(question: str) -> str:
        questions.append(question)
        return next(answers)

    with Client(ask=ask) as client:
        assert not client.knows_password("keeper", "gauge")
        assert client.password("keeper", "gauge", again=False) == "first"
        assert not client.knows_password("keeper", "plotter"), "what is given for one guest is not sent to another"
        assert client.password("keeper", "plotter", again=False) == "first"
        assert client.password("other", "gate", again=False) == "third"
        assert client.password("keeper", "plotter", again=True) == "again"
        assert "first" not in repr(client)
    assert questions == [
        "sudo password of keeper on gauge: ",
        "sudo password of keeper on plotter (Enter: the same as on gauge): ",
        "sudo password of other on gate: ",
        "sudo password of keeper on plotter: ",
    ]
