"""Sets of addresses: laws, strict literals, wildcards against brute force."""

from __future__ import annotations

import ipaddress
import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nightlatch.formats.patterns import matches
from nightlatch.net.addresses import EVERY_ADDRESS, NO_ADDRESS, AddressSet, prefix, union
from nightlatch.net.globs import solve
from nightlatch.net.literal import AddressError, parse_network
from nightlatch.net.ranges import normal
from nightlatch.readings import address_lists

edges = st.sampled_from([0, 1, 2, 254, 255, 256, (1 << 32) - 2, (1 << 32) - 1]) | st.integers(0, (1 << 32) - 1)
ranges = st.tuples(edges, edges).map(lambda pair: (min(pair), max(pair)))
address_sets = st.builds(
    lambda v4, v6: AddressSet(normal(v4), normal(v6)), st.lists(ranges, max_size=6), st.lists(ranges, max_size=3)
)


@given(address_sets, address_sets)
def test_difference_and_overlap_make_the_whole(a: AddressSet, b: AddressSet) -> None:
    for made in (a | b, a & b, a - b, ~a):
        made._check()
    assert (a - b) | (a & b) == a
    assert a | b == union([a, b]) == b | a
    assert (a & b) <= a <= (a | b)
    assert ~a & a == NO_ADDRESS
    assert ~a | a == EVERY_ADDRESS
    assert ~(a | b) == ~a & ~b


@given(address_sets)
def test_prefixes_name_the_same_addresses(a: AddressSet) -> None:
    assert union(parse_network(text) for text in a.prefixes()) == a


@pytest.mark.parametrize(
    "text, expected",
    [
        ("192.168.40/24", "four groups"),
        ("192.168.1", "four groups"),
        ("10.0.0.1.5", "four groups"),
        ("192.168.040.7", "40 instead of 040"),
        ("192.168.40.256", "groups from 0 to 255"),
        ("192.168.40.7/24", "192.168.40.0/24 for the whole network"),
        ("192.168.40.0/33", "a number from 0 to 32"),
        ("192.168.40.0/", "a number from 0 to 32"),
        ("192.168..1", "four groups"),
        ("fe80::1%eth0", "without its %scope"),
        ("::ffff:192.168.40.7", "192.168.40.7"),
        ("2001:db8::g", "such as"),
        ("2001:db8::1/64", "2001:db8::/64 for the whole network"),
        ("gauge", "an IPv4 or IPv6 address"),
    ],
)
def test_bad_literals_are_explained(text: str, expected: str) -> None:
    with pytest.raises(AddressError) as caught:
        parse_network(text)
    assert expected in caught.value.expected


@pytest.mark.parametrize("text", ["192.168.40.0/24", "0.0.0.0/0", "::/0", "2001:db8:40::/64", "10.0.0.1", "::1"])
def test_good_literals(text: str) -> None:
    network = ipaddress.ip_network(text)
    assert parse_network(text).prefixes() == [str(network) if network.num_addresses > 1 else str(network[0])]


@given(st.text("0123456789.*?", min_size=1, max_size=12), st.integers(0, 2**32 - 1))
def test_wildcards_over_ipv4_text(pattern: str, number: int) -> None:
    found = solve(pattern)
    text = str(ipaddress.IPv4Address(number))
    if found is not None:
        assert (text in found) == matches(text, pattern)


@pytest.mark.parametrize("pattern", ["192.168.*", "10.?.0.1", "1*.0.0.?", "1?.?.?.?", "203.0.113.1*", "192.168.4?.*"])
def test_wildcards_near_their_edges(pattern: str) -> None:
    found = solve(pattern)
    assert found is not None
    r = random.Random(1)
    near = [n + d for low, high in found.v4[:200] for n in (low, high) for d in (-1, 0, 1) if 0 <= n + d < 2**32]
    for number in near + [r.randrange(2**32) for _ in range(2000)]:
        text = str(ipaddress.IPv4Address(number))
        assert (text in found) == matches(text, pattern), text


@given(st.lists(st.sampled_from(["2001", "db8", "40", "a"]), min_size=1, max_size=4), st.integers(0, 2**128 - 1))
def test_wildcards_over_ipv6_prefixes(groups: list[str], tail: int) -> None:
    pattern = ":".join(groups) + ":*"
    found = solve(pattern)
    assert found is not None
    (low, high) = found.v6[0]
    for number in (low, high, low + tail % (high - low + 1), low - 1, high + 1):
        text = str(ipaddress.IPv6Address(number))
        assert (text in found) == matches(text, pattern)


def test_scattered_wildcards_are_undecided_not_guessed() -> None:
    assert solve("*.5") is None
    assert address_lists.by_address("*.5").unsure == EVERY_ADDRESS


@pytest.mark.parametrize(
    "patterns, inside, outside",
    [
        ("192.168.40.0/24", "192.168.40.7", "192.168.41.1"),
        ("!192.168.40.7,192.168.40.0/24", "192.168.40.8", "192.168.40.7"),
        ("192.168", "192.0.0.168", "192.168.0.1"),
        ("010.0.0.1", "8.0.0.1", "10.0.0.1"),
        ("2001:DB8::/32", "2001:db8::1", "2001:db9::1"),
    ],
)
def test_address_lists_as_sshd_reads_them(patterns: str, inside: str, outside: str) -> None:
    found = address_lists.by_address(patterns)
    assert inside in found.yes
    assert outside not in found.yes


@pytest.mark.parametrize("patterns", ["10.0.0.1/8", "10.0.0.0/33", "", "10.0.0.0/8,,1.2.3.4", "!"])
def test_broken_address_lists(patterns: str) -> None:
    assert not address_lists.valid(patterns)


def test_prefix_clears_host_bits() -> None:
    assert prefix(4, int(ipaddress.IPv4Address("192.168.40.7")), 24) == parse_network("192.168.40.0/24")
