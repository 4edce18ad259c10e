"""The commented file that `nightlatch new` writes."""

STARTER = """\
# Who is let into which guest, by what, from where, with what proof. Check it with: nightlatch audit {name}
nightlatch: 1
estate: My estate
time_zone: UTC                       # in which the last day of an `until` ends

# Named sets of callers. `anywhere` is reserved.
places:
  office: [192.0.2.0/24, "2001:db8:10::/64"]

# Everybody who logs in, with the public halves of their keys (files beside this one).
people:
  robin: {{}}                          # such as: {{keys: [keys/robin.pub]}}
teams:
  keepers: [robin]

# A running guest: the account Nightlatch comes in by, and its host key's fingerprint, read at its console by
#   ssh-keygen -l -f /etc/ssh/ssh_host_ed25519_key.pub
# Or a folder (a mounted image, an unpacked root), or an evidence archive.
guests:
  first: {{via: {{folder: images/first}}, labels: [servers]}}
#  second: {{via: {{ssh: 192.0.2.21, as: keeper}}, host_keys: ["SHA256:..."], labels: [servers]}}

# One sentence each. `from` is always said; `with: key + password` asks for both, a list for either.
grants: []
# - {{let: team keepers, into: label servers, by: ssh, from: office, with: key}}
# - {{let: robin, into: first, by: ssh, from: office, with: key, may: administer, after: own password}}

# Kept for the day all else fails.
# emergency:
#   - {{account: lantern, into: all guests, tested: 2026-01-31, test_every_days: 90, by: {{console: {{with: password}}}}}}

# Findings accepted on record, until a day.
# waivers:
#   - {{finding: ssh.password-login, on: first, owner: robin, because: tablet has no key store, until: 2027-01-31}}
"""


def starter(name: str) -> str:
    """The starter file's text; `name` is what the file will be called."""
    return STARTER.format(name=name)
