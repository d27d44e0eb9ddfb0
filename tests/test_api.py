"""The public API: what a program does with a site, on real files and real processes."""

from __future__ import annotations

import subprocess
import sys

import pytest
from tests.conftest import SiteUnderTest

from roundgate import api
from roundgate.api.admins import may_change
from roundgate.core.operations.text import EditText
from roundgate.core.operations.values import SetValue
from roundgate.core.rulebook.model import About, File, RecordSet, Rulebook


def test_a_program_changes_a_setting_and_brings_it_into_force(site: SiteUnderTest) -> None:
    site.add("regatta", "boat.slots=16\n")
    site.ok("start")
    with api.open_site(site.folder) as opened:
        server = opened.server("regatta")
        proposal = server.propose(server.key_changes().operations_of(["race.slots=24"]))
        assert not proposal.has_errors
        assert proposal.names == {"race.slots"}
        assert server.workspace.waiting == [], "a proposal is kept only when it is put"
        server.put(proposal.operations)
        assert server.layers("race.slots").slate == "24"
        review = server.review()
        assert [(change.name, change.before, change.after) for change in review.review.changes] == [
            ("race.slots", "16", "24")
        ]
        window = server.start_round(api.Options(reviewed=review.digest))
        events = list(window.events())
        window.close()
        assert events[-1].outcome == "proven"
        server.refresh()
        assert server.workspace.waiting == []
        assert server.layers("race.slots").running == "24"
        assert next(iter(server.rounds())).outcome == "proven"
    assert site.value("regatta", "boat.slots") == "24"


def test_wrong_values_and_names_raise_trouble_and_change_nothing(site: SiteUnderTest) -> None:
    home = site.add("regatta", "boat.slots=16\n")
    before = (home / "gullwind.properties").read_bytes()
    with api.open_site(site.folder) as opened:
        server = opened.server("regatta")
        with pytest.raises(api.Trouble, match="value-range"):
            server.key_changes().operations_of(["race.slots=40"])
        with pytest.raises(api.UnknownName, match=r"has no setting .race\.slot."):
            server.key_changes().operations_of(["race.slot=4"])
        with pytest.raises(api.WrongUsage, match="its value was not given"):
            server.key_changes().operations_of(["entry.code"])
        with pytest.raises(api.UnknownName):
            opened.server("regata")
        assert server.workspace.waiting == []
    assert (home / "gullwind.properties").read_bytes() == before
    with pytest.raises(api.NoSite):
        api.open_site(home)


def test_a_proposal_says_what_it_brings_and_not_what_was_wrong_before(site: SiteUnderTest) -> None:
    site.add("regatta", "boat.slots=16\ngust.limit=300\n")
    with api.open_site(site.folder) as opened:
        server = opened.server("regatta")
        assert [(finding.code, finding.setting) for finding in server.check()] == [("value-range", "gust.limit")]
        fine = server.propose(server.key_changes().operations_of(["race.slots=20"]))
        assert fine.findings == ()
        server.put(fine.operations)
        assert [one.waiting for one in server.check()] == [False]
        done = server.discard(["race.slots"])
        assert (len(done.gone), done.held, done.finished, done.left) == (1, (), (), 0)


def test_one_moment_stays_what_it_is_until_it_is_refreshed(site: SiteUnderTest) -> None:
    home = site.add("regatta", "boat.slots=16\n")
    with api.open_site(site.folder) as opened:
        server = opened.server("regatta")
        moment = server.workspace
        assert moment.read().files.stored("race.slots") == "16"
        assert moment.again() is moment
        (home / "gullwind.properties").write_text("boat.slots=12\n")
        assert moment.read().files.stored("race.slots") == "16"
        assert moment.again().read().files.stored("race.slots") == "12"
        server.refresh()
        assert server.workspace.read().files.stored("race.slots") == "12"


def test_importing_it_loads_next_to_nothing() -> None:
    code = "import sys, roundgate.api; print([name for name in sys.modules if name.startswith('roundgate.')])"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "['roundgate.api']"


def test_every_public_name_is_there() -> None:
    for name in api.__all__:
        assert getattr(api, name) is not None
    with pytest.raises(AttributeError, match="no attribute 'nothing'"):
        _ = api.nothing


@pytest.mark.parametrize(
    ("at", "key", "expected"),
    [
        ("officers[*]", "officers[2].rank", True),
        ("officers[*]", "motto", False),
        ("boats.*.crew[*]", "boats.gull.crew[0]", True),
        ("boats.*.crew[*]", "boats", True),
        ("wardens", "wardens", True),
        ("*", "anything", True),
        ("officers[*]", "", True),
    ],
)
def test_which_changes_of_a_file_may_change_a_roster_in_it(at: str, key: str, expected: bool) -> None:
    book = Rulebook(rulebook=About(name="x"), file={"crew": File(path="crew.json", format="json")})
    change = SetValue("crew.json", key, "1") if key else EditText("crew.json", ())
    assert may_change(book, RecordSet(file="crew", at=at), change) is expected
    assert not may_change(book, RecordSet(file="crew", at=at), SetValue("other.json", key, "1"))


def test_the_check_of_one_server_knows_the_ports_of_the_others(site: SiteUnderTest) -> None:
    site.add("harbour", "net.address=127.0.0.1\n")
    home = site.add("regatta", "net.address=127.0.0.1\n")
    taken = site.value("harbour", "net.port")
    own = site.value("regatta", "net.port")
    file = home / "gullwind.properties"
    file.write_text(file.read_text().replace(f"net.port={own}", f"net.port={taken}"))
    with api.open_site(site.folder) as opened:
        found = [finding for finding in opened.server("regatta").check() if finding.code == "port-shared"]
    assert [finding.server for finding in found] == ["regatta"] and f"harbour has port {taken}" in found[0].cause
