"""What servers of one machine are promised: ports that clash, the next free block, cores shared out."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from roundgate.core.fleet.cores import TooFewCores, core_ranges, cores_in, mask, overlaps, proposal
from roundgate.core.fleet.ports import PortPromise, clashes, free_block


def promise(
    server: str, port: int, protocol: str = "udp", address: str = "", setting: str = "p", plus: int = 0
) -> PortPromise:
    return PortPromise(server, setting, plus, port, protocol, address)


@pytest.mark.parametrize(
    ("one", "other", "is_clash"),
    [
        (("a", 5), ("b", 5), True),
        (("a", 5), ("b", 6), False),
        (("a", 5, "tcp"), ("b", 5, "udp"), False),
        (("a", 5, "udp", "127.0.0.1"), ("b", 5, "udp", "127.0.0.2"), False),
        (("a", 5, "udp", "127.0.0.1"), ("b", 5, "udp", "0.0.0.0"), True),
        (("a", 5, "udp", "::1"), ("b", 5, "udp", "::1"), True),
        (("a", 5), ("a", 5, "udp", "", "q"), True),
    ],
)
def test_which_promises_clash(one: tuple[str, int], other: tuple[str, int], is_clash: bool) -> None:
    assert bool(list(clashes([promise(*one), promise(*other)]))) == is_clash


PORTS = st.lists(
    st.tuples(st.sampled_from(["game", "query", "console"]), st.integers(0, 3), st.sampled_from(["tcp", "udp"])),
    min_size=1,
    max_size=5,
)


@given(PORTS, st.sets(st.tuples(st.integers(27000, 27060), st.sampled_from(["tcp", "udp"]))), st.integers(27000, 27030))
def test_the_next_free_block_is_free_in_order_and_the_first(
    ports: list[tuple[str, int, str]], taken: set[tuple[int, str]], start: int
) -> None:
    base = {"game": 30000, "query": 30002, "console": 30010}
    wanted = [promise("new", base[name] + plus, protocol, "", name, plus) for name, plus, protocol in ports]
    block = free_block(wanted, taken, start)
    assert block is not None and set(block) == {name for name, _, _ in ports}
    placed = [(block[item.setting] + item.plus, item.protocol) for item in wanted]
    assert not set(placed) & taken
    moved = {block[item.setting] - (item.port - item.plus) for item in wanted}
    assert len(moved) == 1, "they keep their distances"
    assert min(port for port, _ in placed) >= start
    for shift in range(min(port for port, _ in placed) - start):
        assert any((port - 1 - shift, protocol) in taken for port, protocol in placed), "no earlier block is free"


def test_ports_far_apart_are_no_block_and_a_range_may_be_used_up() -> None:
    wanted = [promise("new", 2000, setting="a"), promise("new", 40000, setting="b")]
    assert free_block(wanted, {(2000, "udp")}, 2000) == {"a": 2001, "b": 2002}
    everything = {(port, "udp") for port in range(1, 65536)}
    assert free_block(wanted[:1], everything, 1024) is None and free_block(wanted, everything, 1024) is None
    assert free_block([promise("new", 5, setting="")], set(), 1024) == {}, "what no setting holds stays where it is"


@given(st.sets(st.integers(0, 200), min_size=1))
def test_cores_are_written_and_read_the_same(cores: set[int]) -> None:
    assert cores_in(core_ranges(cores)) == cores
    assert {core for core in range(300) if int(mask(cores), 16) >> core & 1} == cores


@given(st.integers(1, 12), st.integers(1, 4), st.integers(0, 3), st.lists(st.integers(1, 16), min_size=1, max_size=3))
def test_cores_are_shared_out_without_overlap(many: int, give: int, spare: int, sizes: list[int]) -> None:
    nodes, start = [], 0
    for size in sizes:
        nodes.append(frozenset(range(start, start + size)))
        start += size
    kept = frozenset({start - 1})
    servers = [f"s{number}" for number in range(many)]
    free = [core for core in range(start)[spare:] if core not in kept]
    if give * many > len(free):
        with pytest.raises(TooFewCores, match=f"need {give * many}, and {len(free)} are free"):
            proposal(servers, give, spare, nodes, kept)
        return
    found = proposal(servers, give, spare, nodes, kept)
    assert overlaps(found) == {} and all(len(cores) == give and cores <= set(free) for cores in found.values())
    room = sum(len(node & set(free)) // give for node in nodes)
    of_one_node = sum(1 for cores in found.values() if any(cores <= node for node in nodes))
    assert of_one_node >= min(many, room), "of one node as long as one has room"
