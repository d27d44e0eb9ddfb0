"""The types of all JSON that the program prints. Field names are stable; the documents are made from them.

Every command that knows ``--json`` prints one of ``OUTPUTS``. Values of secrets are never in one.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

from msgspec import Meta, Struct

from roundgate.core.findings import Finding, Level
from roundgate.core.layers import DifferenceCode, LayerDifference
from roundgate.core.rounds import Fact, Mark, RoundKind

_FROM_ONE = "counted from 1; 0 for the whole file"


def _about(description: str) -> Meta:
    return Meta(description=description)


class DifferenceOutput(Struct, frozen=True, rename="kebab"):
    """How two layers of a value differ."""

    code: Annotated[DifferenceCode, _about("what kind of difference it is")]
    value: Annotated[str | None, _about("what waits on the slate; null where the value is taken out")]
    round: Annotated[int | None, _about("the round that wrote the value")]
    text: Annotated[str, _about("the difference as text")]


class RemarkOutput(Struct, frozen=True, rename="kebab"):
    """Something that a person should know of a server."""

    code: Annotated[str, _about("what it is about")]
    text: Annotated[str, _about("the remark as text")]


StateWord = Literal[
    "up",
    "up, not held",
    "starting",
    "restarting",
    "down",
    "crashed",
    "no answer",
    "no folder",
    "out of reach",
    "not known",
]


class ServerOutput(Struct, frozen=True, rename="kebab"):
    """One server of ``status``."""

    server: Annotated[str, _about("its name")]
    state: Annotated[
        StateWord,
        _about(
            "how it is; `no answer`: its keeper is silent; `up, not held`: nothing of ours holds it; `out of reach`: "
            "the services of a rented server do not answer; `not known`: nothing tells it"
        ),
    ]
    since: Annotated[float | None, _about("when it was started, in seconds since 1970")]
    process: Annotated[int | None, _about("the id of its process")]
    players: Annotated[int | None, _about("how many players are on it; null where it is down")]
    slots: Annotated[int | None, _about("how many players fit; null where that is not known")]
    address: Annotated[str | None, _about("where it listens")]
    on_slate: Annotated[int, _about("how many changes wait")]
    differs: Annotated[dict[str, list[DifferenceOutput]], _about("settings whose layers differ")]
    remarks: Annotated[list[RemarkOutput], _about("what a person should know")]
    round: Annotated[int | None, _about("the round that is at work")]
    crashes: Annotated[int, _about("crashes in the last day")]
    listed: Annotated[bool | None, _about("whether the public list shows it; null where it was not checked")]


class StatusOutput(Struct, frozen=True, rename="kebab"):
    """``status --json``."""

    site: Annotated[str, _about("the site's name")]
    servers: list[ServerOutput]


class SettingOutput(Struct, frozen=True, rename="kebab"):
    """One setting, list or key of ``show``; values are as shown to people."""

    name: Annotated[str, _about("the setting's or list's name; FILE:KEY where no rulebook knows it")]
    file: Annotated[str, _about("the file that holds it")]
    key: Annotated[str, _about("its key in the file; empty for a list")]
    disk: Annotated[str, _about("what the file holds; `-` where nothing is set")]
    slate: Annotated[str, _about("what waits; empty where nothing does")]
    running: Annotated[str, _about("what the running server has; empty where none runs")]
    default: Annotated[str, _about("what counts where nothing is set; empty where that is not known")]
    differences: list[DifferenceOutput]
    notes: Annotated[list[str], _about("what to know to read it right, such as that it does not count now")]


class RecordOutput(Struct, frozen=True, rename="kebab"):
    """One record of a set."""

    key: Annotated[str, _about("what names it in its set")]
    title: Annotated[str, _about("how it is listed")]
    fields: Annotated[dict[str, str], _about("its fields, as shown to people")]
    slate: Annotated[str, _about("what the slate changes of it, as shown to people; empty where nothing")] = ""
    running: Annotated[str, _about("what the running server has instead; empty where it is the same, or not known")] = (
        ""
    )
    file: Annotated[str, _about("the file that has it: the set's own, or the one which that overrides")] = ""


class RecordsOutput(Struct, frozen=True, rename="kebab"):
    """A set of records, as it is on disk."""

    set: Annotated[str, _about("its name in the rulebook")]
    file: Annotated[str, _about("the file that holds it")]
    records: list[RecordOutput]


class DeliveryOutput(Struct, frozen=True, rename="kebab"):
    """What became of a notice for one recipient."""

    at: Annotated[float, _about("when, in seconds since 1970")]
    to: Annotated[str, _about("the recipient, by its name in the site file")]
    event: Annotated[str, _about("what the notice was about")]
    server: Annotated[str, _about("the server; empty where it is about none")]
    done: Annotated[bool, _about("whether it was delivered")]
    detail: Annotated[str, _about("why not, or at which try")]


class RecipientOutput(Struct, frozen=True, rename="kebab"):
    """A recipient of notices."""

    name: Annotated[str, _about("its name in the site file")]
    kind: Annotated[Literal["webhook", "mail"], _about("how it is notified")]
    host: Annotated[str, _about("where it is, without what may be secret")]
    on: Annotated[list[str], _about("the events that it receives; empty: all")]
    servers: Annotated[list[str], _about("of which servers; empty: all")]
    waiting: Annotated[int, _about("notices that are not handed over yet")]
    last: Annotated[DeliveryOutput | None, _about("what became of the last one")]


class TimetableOutput(Struct, frozen=True, rename="kebab"):
    """An entry of the timetable, for one server."""

    entry: Annotated[str, _about("its name in the site file")]
    server: str
    do: Annotated[str, _about("what is done")]
    when: Annotated[str, _about("its times and weekdays, or its cron expression")]
    zone: Annotated[str, _about("the time zone that they are in")]
    next: Annotated[float | None, _about("the next moment, in seconds since 1970; null where it never occurs")]
    next_when: Annotated[str, _about("the same, as the clocks of the zone show it")]
    skipped: Annotated[bool, _about("whether the next moment is left out")]
    last: Annotated[str | None, _about("what became of the last moment; null where there was none yet")]
    last_when: Annotated[str, _about("when that was, as the clocks of the zone show it")]
    detail: Annotated[str, _about("more of what became of it")]


class PersonOutput(Struct, frozen=True, rename="kebab"):
    """One person of ``people --json``."""

    key: Annotated[str, _about("the key in people.toml")]
    name: str
    ids: Annotated[dict[str, list[str]], _about("the ids, by their kind")]
    also: Annotated[list[str], _about("other names")]
    note: str
    wanted: Annotated[dict[str, str], _about("where (a server, @tag or @all), and which roster and rank")]
    until: Annotated[dict[str, str], _about("where and roster, with / between, and the day on which it ends")]
    user: Annotated[str, _about("the person's own name as a user of this machine")]


class PersonOnServer(Struct, frozen=True, rename="kebab"):
    """Where somebody is on one server, and when they were seen there."""

    server: str
    rosters: Annotated[list[str], _about("the rosters, with the rank after a colon, and until when")]
    first: Annotated[float, _about("in seconds since 1970; 0 where never")]
    last: Annotated[float, _about("in seconds since 1970; 0 where never")]
    visits: int
    seconds: Annotated[float, _about("how long in all, where coming and going was seen")]


class PersonPage(Struct, frozen=True, rename="kebab"):
    """One person, on all servers."""

    person: PersonOutput
    servers: list[PersonOnServer]


class SeenOutput(Struct, frozen=True, rename="kebab"):
    """Somebody of ``people seen --json``, on one server."""

    server: str
    id: str
    name: Annotated[str, _about("the name that was seen last")]
    person: Annotated[str, _about("the key in the people book; empty where not there")]
    first: Annotated[float, _about("in seconds since 1970")]
    last: Annotated[float, _about("in seconds since 1970")]
    visits: int
    seconds: Annotated[float, _about("how long in all, where coming and going was seen")]


class StandingOutput(Struct, frozen=True, rename="kebab"):
    """Somebody of ``roster SERVER ROSTER --json``."""

    server: str
    id: str
    name: str
    rank: Annotated[str, _about("what they are on it; empty where the roster has no ranks")]
    until: Annotated[str, _about("the day on which it ends; empty where it does not")]
    last: Annotated[float, _about("when they were seen last, in seconds since 1970; 0 where never")]
    person: Annotated[str, _about("the key in the people book; empty where not there")]


class MayOutput(Struct, frozen=True, rename="kebab"):
    """Somebody, and whether they may do something, of ``ranks who --json`` and ``ranks may --json``."""

    server: str
    id: Annotated[str, _about("empty for newcomers")]
    name: str
    permission: str
    may: bool
    reason: Annotated[str, _about("the entry that decides, with file and line, as text")]


class WhyOutput(Struct, frozen=True, rename="kebab"):
    """One server of ``ranks why --json``."""

    server: str
    name: str
    permission: str
    may: bool
    reason: Annotated[str, _about("the entry that decides, with file and line, as text")]
    groups: Annotated[list[str], _about("the ranks that somebody is in")]
    chain: Annotated[list[str], _about("those whose entries are asked, the nearest first")]
    otherwise: Annotated[list[str], _about("what would decide without that entry, and so on")]


class MatrixOutput(Struct, frozen=True, rename="kebab"):
    """One server of ``ranks matrix --json``."""

    server: str
    ranks: Annotated[str, _about("the rulebook's table of ranks, with the world after @ where each has its own")]
    columns: Annotated[list[str], _about("the ranks, or people")]
    rows: Annotated[
        dict[str, list[str]],
        _about("by permission, what each column has: yes, no, - for nothing; from above; * by a wildcard"),
    ]


class ShiftOutput(Struct, frozen=True, rename="kebab"):
    """Some people of ``ranks impact --json`` who gain or lose permissions."""

    server: str
    gains: Annotated[bool, _about("false where they lose")]
    permissions: Annotated[str, _about("with commas")]
    people: list[str]


class RankDifferenceOutput(Struct, frozen=True, rename="kebab"):
    """One rank of ``ranks diff --json`` that is not the same on both sides."""

    rank: str
    only_first: Annotated[list[str], _about("what only the first side lets it do")]
    only_second: list[str]
    missing: Annotated[str, _about("the side that has no such rank; empty where both have it")]


class TestedOutput(Struct, frozen=True, rename="kebab"):
    """One expectation of ``ranks test --json``, on one server."""

    server: str
    line: int
    expected: Annotated[str, _about("the expectation as text")]
    met: bool
    why: Annotated[str, _about("the entry that decides, as text, or what is not known")]


class WayOutput(Struct, frozen=True, rename="kebab"):
    """One way to a thing of ``odds --json``."""

    record: Annotated[str, _about("the record that is opened")]
    through: Annotated[list[str], _about("the tables that it goes through, as SET/RECORD; empty: directly")]
    expected: Annotated[float, _about("how many of the thing come by this way, on average")]


class ThingOutput(Struct, frozen=True, rename="kebab"):
    """One thing of ``odds --json``."""

    thing: Annotated[str, _about("its name in the file")]
    chance: Annotated[float, _about("the chance, from 0 to 1, that there is at least one; with --slate, afterwards")]
    expected: Annotated[float, _about("how many there are on average")]
    spread: Annotated[float, _about("the standard deviation of how many there are")]
    least: Annotated[int, _about("in nine of ten openings there are at least so many")]
    most: Annotated[int, _about("in nine of ten openings there are at most so many")]
    chance_before: Annotated[float, _about("the chance on disk, without the slate")]
    expected_before: Annotated[float, _about("how many there are on average on disk, without the slate")]
    ways: Annotated[list[WayOutput], _about("where it comes from, the most fruitful way first")]


class OddsOutput(Struct, frozen=True, rename="kebab"):
    """One record of ``odds --json``, or all of them together."""

    server: Annotated[str, _about("its name in the site file")]
    loot: Annotated[str, _about("the rulebook's name of this loot")]
    record: Annotated[str, _about("what is opened, as SET/RECORD; empty: all that is there after a restart")]
    at_once: Annotated[int, _about("how many of the record there are at a time")]
    things: Annotated[list[ThingOutput], _about("what can come out, the likeliest first")]


class LevelOutput(Struct, frozen=True, rename="kebab"):
    """One level of ``curve --json``."""

    level: Annotated[float, _about("its number")]
    points: Annotated[float | None, _about("the points that it needs from the start; with --slate, afterwards")]
    points_before: Annotated[float | None, _about("the points on disk; null where the level is new")]
    grants: Annotated[float, _about("what it grants to be spent")]
    granted: Annotated[float, _about("what all levels up to it grant")]
    cost: Annotated[float, _about("what all costs that can be bought up to it")]


class CurveOutput(Struct, frozen=True, rename="kebab"):
    """One server of ``curve --json``."""

    server: Annotated[str, _about("its name in the site file")]
    curve: Annotated[str, _about("the rulebook's name of the curve, or SET.FIELD")]
    granted: Annotated[float, _about("what all levels grant together")]
    cost: Annotated[float, _about("what all costs that is not out of reach")]
    short_from: Annotated[float | None, _about("the level from which on too little is granted; null: it suffices")]
    levels: Annotated[list[LevelOutput], _about("the levels in their order")]


class PortOutput(Struct, frozen=True, rename="kebab"):
    """One port of ``fit --json``."""

    server: Annotated[str, _about("whose port it is")]
    setting: Annotated[str, _about("the setting that holds it; empty where no setting does")]
    port: Annotated[int, _about("its number")]
    protocol: Annotated[str, _about("tcp or udp")]
    address: Annotated[str, _about("the address that it is opened on; empty: all of the machine's")]
    clashes_with: Annotated[list[str], _about("the servers that have it too")]
    held_by: Annotated[str | None, _about("the process of somebody else that holds it now")]


class SharesOutput(Struct, frozen=True, rename="kebab"):
    """What one server of ``fit --json`` may take of the machine."""

    server: Annotated[str, _about("its name in the site file")]
    memory: Annotated[int | None, _about("how much memory it may take, in bytes; null where nothing limits it")]
    cores: Annotated[list[int] | None, _about("the cores that it may use; null where it may use all")]


class FitOutput(Struct, frozen=True, rename="kebab"):
    """``fit --json``."""

    fits: Annotated[bool, _about("whether all promises can be kept")]
    ports: Annotated[list[PortOutput], _about("the ports that the servers open")]
    servers: Annotated[list[SharesOutput], _about("memory and cores")]
    memory: Annotated[int, _about("the machine's memory, in bytes")]
    promised: Annotated[int, _about("the memory that is promised to all servers, in bytes")]
    nodes: Annotated[list[list[int]], _about("the cores of each NUMA node")]


class BackupOutput(Struct, frozen=True, rename="kebab"):
    """One backup of ``backups --json``."""

    number: Annotated[int, _about("its number")]
    server: Annotated[str, _about("whose it is")]
    made: Annotated[float, _about("when it was made, in seconds since 1970")]
    what: Annotated[str, _about("`worlds`, or `whole` for the whole folder")]
    files: Annotated[int, _about("how many files are in it")]
    size: Annotated[int, _about("bytes of all files")]
    packed: Annotated[int | None, _about("bytes of the archive; null where it is missing")]
    archive: Annotated[str, _about("the archive")]
    held: Annotated[bool, _about("whether the server was down, or held its saving meanwhile")]


class RosterOutput(Struct, frozen=True, rename="kebab"):
    """One person of ``roster --json``."""

    id: str
    name: str
    rosters: Annotated[dict[str, list[str]], _about("by server: the rosters, with the rank after a colon")]


class ShowOutput(Struct, frozen=True, rename="kebab"):
    """One server of ``show --json``."""

    server: Annotated[str, _about("its name")]
    settings: list[SettingOutput]
    records: Annotated[list[RecordsOutput], _about("the sets of records that were asked for by name")]


class FileValue(Struct, frozen=True, rename="kebab"):
    """One value of a file of no server."""

    key: str
    value: Annotated[str, _about("as it is in the file; `(set, hidden)` for what sounds secret")]
    kind: Annotated[str, _about("text, number, bool, null, code, or list or map for an empty one")]
    line: Annotated[int, _about(_FROM_ONE)]


class FileOutput(Struct, frozen=True, rename="kebab"):
    """``show FILE --json`` and ``explain FILE --json``, of a file of no server."""

    file: str
    format: Annotated[str, _about("the format that it is read as")]
    values: list[FileValue]


class SettingPage(Struct, frozen=True, rename="kebab", tag_field="what", tag="setting"):
    """What ``explain`` knows of a setting."""

    server: str
    name: str
    about: Annotated[str, _about("what it means")]
    type: Annotated[str, _about("its type in the rulebook")]
    allowed: Annotated[str, _about("the values that it may have, as text")]
    choices: Annotated[dict[str, str], _about("the values to choose from, with their meanings")]
    default: Annotated[str | None, _about("what counts where nothing is set")]
    file: str
    line: Annotated[int | None, _about("the line that sets it; null where nothing does")]
    key: Annotated[str, _about("its key in the file")]
    unit: Annotated[str, _about("the unit in which the file holds it; empty where there is none")]
    on_disk: Annotated[str | None, _about("what the file holds")]
    takes: Annotated[Literal["live", "restart", "new-world"], _about("when a change takes effect")]
    fixed_by: Annotated[str, _about("the setting that names the world which fixes this one")]
    kept_in: Annotated[str, _about("where the server itself keeps it, where no file holds it; else empty")]
    live_set: Annotated[bool, _about("whether the live console can set it")]
    live_read: Annotated[bool, _about("whether the live console can be asked for it")]
    tier: Annotated[str, _about("`basic` or `advanced`")]
    advice: str
    rules: Annotated[list[str], _about("what the rules that touch it say")]
    limit: Annotated[str, _about("the maximum now, worked out from something else; empty: none is known")]
    tables: Annotated[list[str], _about("what the advice tables about it say")]
    overrides: Annotated[list[str], _about("the settings that it can keep from counting")]
    overridden_by: Annotated[str, _about("the expression under which it does not count; empty where it always does")]
    notes: Annotated[list[str], _about("what holds now: that it does not count, or that the server does not have it")]
    also: Annotated[list[str], _about("more places that hold the same value")]
    availability: Annotated[str, _about("which editions and versions have it, as text; empty: all")]
    slate: Annotated[str, _about("what waits; empty where nothing does")]
    running: Annotated[str, _about("what the running server has; empty where none runs")]
    world: Annotated[str, _about("what the world was made with, where a world fixes it and that is known")]
    rewritten: Annotated[
        Literal["never", "at-start", "at-stop", "while-running"], _about("when the server itself rewrites the file")
    ]


class ListPage(Struct, frozen=True, rename="kebab", tag_field="what", tag="list"):
    """What ``explain`` knows of a list."""

    server: str
    name: str
    about: Annotated[str, _about("what it is a list of")]
    entries: Annotated[str, _about("what an entry is")]
    built_in: Annotated[list[str], _about("the entries that come with the game")]
    example: str
    least: Annotated[int, _about("the fewest entries that the server takes")]
    most: Annotated[int | None, _about("the maximum number of entries that the server takes")]
    advice: str
    file: str
    on_disk: list[str]


class RecordsPage(Struct, frozen=True, rename="kebab", tag_field="what", tag="records"):
    """What ``explain`` knows of a set of records."""

    server: str
    name: str
    about: Annotated[str, _about("what the records are")]
    key: Annotated[str, _about("the field that names a record; `*`: its name in the file")]
    fields: Annotated[dict[str, str], _about("the fields, and what each may be")]
    needed: Annotated[list[str], _about("the fields that every record must have")]
    least: Annotated[int, _about("the fewest records that the server takes")]
    most: Annotated[int | None, _about("the maximum number of records that the server takes")]
    file: str
    count: Annotated[int, _about("how many there are on disk")]
    decided: Annotated[str, _about("of ranks: which of several entries about a permission counts; else empty")] = ""


class KeyPage(Struct, frozen=True, rename="kebab", tag_field="what", tag="key"):
    """What ``explain`` knows of a key that no rulebook describes."""

    server: str
    name: str
    file: str
    line: Annotated[int | None, _about("the line that sets it; null where nothing does")]
    key: str


class CodePage(Struct, frozen=True, rename="kebab", tag_field="what", tag="finding"):
    """What ``explain`` knows of a finding code."""

    code: str
    level: Level
    title: str
    page: Annotated[str, _about("what it means and what to do")]
    wrong: Annotated[str, _about("an example that has it")]
    right: Annotated[str, _about("the same without it")]


Page = SettingPage | ListPage | RecordsPage | KeyPage | CodePage


class ChangeOutput(Struct, frozen=True, rename="kebab"):
    """One change of a slate."""

    name: str
    file: str
    before: Annotated[str, _about("what is on disk, as shown to people")]
    after: Annotated[str, _about("what will be")]
    when_slated: Annotated[str, _about("what was on disk when the change was made, where that is another value now")]
    edited_while_running: Annotated[bool, _about("an edit made by hand in a file that the server would overwrite")]
    nothing: Annotated[bool, _about("the change changes nothing")]


class ConsequenceOutput(Struct, frozen=True, rename="kebab"):
    """Something that the changes of a slate mean."""

    code: Annotated[str, _about("what kind of consequence it is")]
    names: Annotated[list[str], _about("the settings that it is about")]
    text: Annotated[str, _about("the consequence as text")]


class GiveUp(Struct, frozen=True, rename="kebab"):
    """Where a reader of the file gives up, where that is not where the mistake is."""

    line: int
    column: int


class Repair(Struct, frozen=True, rename="kebab"):
    """Characters to replace; lines and columns are counted from 1, the end is not included."""

    line: int
    column: int
    end_line: int
    end_column: int
    new: str


class FindingOutput(Struct, frozen=True, rename="kebab"):
    """One finding of ``check``."""

    server: Annotated[str, _about("the server; empty for a file of none")]
    level: Level
    code: Annotated[str, _about("its code; `explain CODE` tells more")]
    file: str
    line: Annotated[int, _about(_FROM_ONE)]
    column: Annotated[int, _about(_FROM_ONE)]
    length: Annotated[int, _about("how many characters it is about")]
    setting: Annotated[str, _about("the setting that it is about, if any")]
    on_slate: Annotated[bool, _about("it is about what waits, not about what is on disk")]
    cause: str
    do: Annotated[str, _about("a command that puts it right, as it is typed; empty where there is none")]
    hint: Annotated[str, _about("what to do, where that is not a command; or what to know of it")]
    gave_up: GiveUp | None
    safe: Annotated[bool, _about("the repair cannot change a meaning")]
    repair: list[Repair]


class SlateOutput(Struct, frozen=True, rename="kebab"):
    """One server of ``slate --json``."""

    server: str
    changes: list[ChangeOutput]
    on_disk_not_running: Annotated[list[str], _about("what is on disk already and comes into force with a restart")]
    consequences: list[ConsequenceOutput]
    diff: Annotated[str, _about("the difference in the files, in unified form, secrets blanked out")]
    findings: Annotated[list[FindingOutput], _about("what the changes bring that is not wrong already")]


class CheckOutput(Struct, frozen=True, rename="kebab"):
    """``check --json``, for servers and for files."""

    findings: list[FindingOutput]


class RoundChange(Struct, frozen=True, rename="kebab"):
    """One change that a round brought, as shown to people."""

    name: str
    before: str
    after: str


class JournalOutput(Struct, frozen=True, rename="kebab"):
    """One line of a round's journal."""

    at: Annotated[float, _about("when, in seconds since 1970")]
    step: Annotated[str, _about("the round's step")]
    mark: Annotated[Mark, _about("what the line says of the step")]
    message: Annotated[str, _about("the text; for `end` the seconds that the step took")]
    fact: Annotated[Fact | None, _about("what was seen, where the mark is `fact`")]


class RoundOutput(Struct, frozen=True, rename="kebab"):
    """One round of ``rounds --json``, and ``rounds show N --json``."""

    round: Annotated[int, _about("its number")]
    server: str
    kind: Annotated[RoundKind, _about("what was asked")]
    by: Annotated[str, _about("who asked")]
    began: Annotated[float, _about("in seconds since 1970")]
    ended: float | None
    outcome: Annotated[str, _about("how it ended; `open` where it has not")]
    message: Annotated[str, _about("the end as text")]
    changes: list[RoundChange]
    evidence: Annotated[list[str], _about("the server's last words where something went wrong")]
    journal: list[JournalOutput]


class ComparedOutput(Struct, frozen=True, rename="kebab"):
    """One setting, list or key of ``compare``."""

    name: Annotated[str, _about("the setting's or list's name; FILE:KEY where no rulebook knows it")]
    kind: Annotated[str, _about("`setting`, `list`, `records`, `key`, or `file` for one that a side does not have")]
    values: Annotated[list[str | None], _about("what each side has, as shown to people; null where it has none")]
    same: bool


class CompareOutput(Struct, frozen=True, rename="kebab"):
    """``compare --json``."""

    sides: list[str]
    rows: list[ComparedOutput]


OUTPUTS: dict[str, Any] = {
    "status": StatusOutput,
    "show": list[ShowOutput],
    "show FILE": FileOutput,
    "explain": list[Page],
    "explain FILE": FileOutput,
    "compare": CompareOutput,
    "slate": list[SlateOutput],
    "check": CheckOutput,
    "rounds list": list[RoundOutput],
    "rounds show": RoundOutput,
    "rulebook list": list[str],
    "people list": list[PersonOutput],
    "people show": PersonPage,
    "people seen": list[SeenOutput],
    "odds": list[OddsOutput],
    "fit all": FitOutput,
    "fit ports": FitOutput,
    "fit memory": FitOutput,
    "fit cores": FitOutput,
    "backup list": list[BackupOutput],
    "notices list": list[RecipientOutput],
    "timetable show": list[TimetableOutput],
    "notices test": list[DeliveryOutput],
    "curve": list[CurveOutput],
    "roster show": list[RosterOutput],
    "roster show SERVER ROSTER": list[StandingOutput],
    "ranks who": list[MayOutput],
    "ranks may": list[MayOutput],
    "ranks of": list[MayOutput],
    "ranks why": list[WhyOutput],
    "ranks matrix": list[MatrixOutput],
    "ranks impact": list[ShiftOutput],
    "ranks diff": list[RankDifferenceOutput],
    "ranks test": list[TestedOutput],
}
"""What each command prints with ``--json``."""


def difference_output(difference: LayerDifference) -> DifferenceOutput:
    """Return a difference for JSON."""
    from roundgate.cli.screen.differences import describe_difference

    return DifferenceOutput(difference.code, difference.value, difference.round, describe_difference(difference))


def finding_output(finding: Finding) -> FindingOutput:
    """Return a finding for JSON."""
    from roundgate.core.findings import finding_step

    place, step = finding.place, finding_step(finding)
    return FindingOutput(
        finding.server,
        finding.level,
        finding.code,
        place.file,
        place.line,
        place.column,
        place.length,
        finding.setting,
        finding.waiting,
        finding.cause,
        step.command,
        step.hint,
        GiveUp(*finding.gave_up) if finding.gave_up[0] else None,
        finding.safe,
        [Repair(fix.line, fix.column, fix.end_line, fix.end_column, fix.new) for fix in finding.fixes],
    )
