"""The rulebook as plain typed values, in the shape in which its TOML file is written.

Nothing of a game is in code; all of it is in values of these types. Numbers are in the unit that the file uses.
"""

from typing import Literal

from msgspec import Struct, field

from roundgate.core.formats.protocol import USUAL, Dialect

TomlValue = bool | int | float | str
"""A value as TOML writes it."""

Takes = Literal["live", "restart", "new-world"]


class Model(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Common to every part: frozen, and a name that the language does not know is an error."""


class Version(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Where the server's version can be read: a file in its folder, and a pattern with a group ``version``."""

    file: str
    """The file that has the version, such as a log."""
    match: str
    """A pattern with a group version."""


class About(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """The ``[rulebook]`` table."""

    name: str
    """The rulebook's name."""
    title: str = ""
    """What people call the game's server."""
    layers: tuple[str, ...] = ()
    """Rulebooks below this one, the lowest first."""
    editions: tuple[str, ...] = ()
    """The editions of the game, where they differ."""
    version: Version | None = None
    """Where the server's version can be read."""


class File(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One file of the server, its path relative to the server's folder.

    A name in braces in the path, as in ``worlds/{world}/rules.ini``, stands for every folder or file that there is.
    """

    path: str
    """The path in the server's folder; a name in braces, as in worlds/{world}/rules.ini, stands for every folder or
    file there is."""
    format: str
    """One of properties, ini, directives, lines, json, yaml, toml, xml, launch, lua or statements."""
    about: str = ""
    """What is in it."""
    rewritten: Literal["never", "at-start", "at-stop", "while-running"] = "never"
    """When the server itself rewrites the file."""
    made: Literal["shipped", "first-run", "by-hand"] = "shipped"
    """Where the file comes from: with the server, from its first run, or by hand."""
    owner: Literal["site", "game"] = "site"
    """`game`: an update of the game overwrites the file."""
    overridden_by: str = ""
    """Another file of the rulebook with the same keys, whose values count before those of this one; of two that hold
    records, those that only this one has count too."""
    includes: str = ""
    """The key whose values name more files of this format, which the server reads in its place."""
    chosen_by: str = ""
    """With a name in braces: the setting whose value says which of the files the server reads."""
    belongs_to: str = ""
    """With a name in braces: the path, with the same name in it, that exists where the file is of use."""
    others: Literal["noted", "allowed"] | tuple[str, ...] = "noted"
    """Keys that the rulebook does not describe: `noted` in one note, `allowed`, or a list of those allowed, with `*`
    for any letters: `["debug_*", "export *"]`; misspellings of described keys are found anyway."""
    header: tuple[str, ...] = ()
    """The first lines of the file where Round Gate makes it."""
    dialect: Dialect = USUAL
    """How the game reads the file, where its format leaves room."""


class Live(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How a setting is set and read at the live console; ``{value}`` stands for the stored value."""

    set: str = ""
    """The console line that sets it; {value} stands for the value as stored."""
    read: str = ""
    """The console line that asks for it."""
    query: str = ""
    """The `[query.NAME]` whose answer holds the value, where the console cannot be asked."""
    match: str = ""
    """A pattern with a group value, searched in each line of the answer; `^` and `$` are the ends of a line."""
    bytes: tuple[int, int] | None = None
    """Of a query whose answer is binary: where the value begins, from 0, and how many bytes it has."""
    order: Literal["little", "big", "text"] = "little"
    """With `bytes`: a whole number, its least byte first (little) or last (big), or a text."""

    @property
    def can_be_read(self) -> bool:
        """Whether the running server can be asked for the value."""
        return bool(self.read or self.query)


class Blocked(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Words that may not stand inside a text, and what happens when they do."""

    words: tuple[str, ...]
    """Words that must not be part of the text, case aside."""
    because: str = ""
    """What happens when one is."""


class OtherPlace(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A second place that holds the same value."""

    key: str
    """Its key there."""
    file: str = ""
    """Empty: the setting's own file."""
    optional: bool = False
    """Where the place has nothing, that is not a difference."""
    prefix: str | None = None
    """What is written before the value there, such as `worlds/`; not given: as in the own place."""
    suffix: str | None = None
    """What is written after the value there, such as `.wld`; not given: as in the own place."""


class ItemKind(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What an entry of a list may be: built-in names, a pattern, and how to say it."""

    about: str = ""
    """What an entry is."""
    catalogue: tuple[str, ...] = ()
    """The built-in names."""
    pattern: str = ""
    """The form of any other."""
    example: str = ""
    """Something that may be typed."""
    advice: str = ""
    """What one should know."""
    prefix: str = ""
    """What every id begins with, for those who leave it out."""
    suffix: str = ""
    """What every id ends with, for those who leave it out."""
    case: Literal["", "upper", "lower", "any"] = ""
    """Of letters in an id: `upper` or `lower` alone are right; with `any`, case makes no other id."""
    optional: str = ""
    """Signs that may be left out, and are put where the example has them: `-`."""
    check: Literal["", "luhn", "mod11", "mod97"] = ""
    """How the last signs of an id are worked out of the others (ISO/IEC 7812, ISO 7064 MOD 11-2, MOD 97-10)."""


class Setting(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One named value of a server."""

    type: str
    """The kind of value."""
    file: str = ""
    """One of the rulebook's files; empty where only the live console has the setting."""
    key: str = ""
    """Its key in that file, written as for FILE:KEY."""
    default: TomlValue | None = None
    """What counts where the file says nothing."""
    about: str = ""
    """What it means, in a sentence."""
    advice: str = ""
    """What one should know before changing it."""
    advice_when: str = ""
    """An expression like a rule's; the advice is given only where it holds. Empty: always."""
    range: tuple[float, float] | None = None
    """The minimum and the maximum, in the file's unit."""
    step: float | None = None
    """It goes in steps of this, in the file's unit."""
    places: int | None = None
    """`decimal`: so many digits after the point, neither more nor fewer."""
    limit: str = ""
    """An expression, such as `machine.memory`; the value must not be greater."""
    length: tuple[int, int] | None = None
    """`text`, `secret`: the characters; list, choices: the entries."""
    unit: str = ""
    """`int`, `decimal`: what the number counts, such as `knots`; it may be typed and is shown, and the file holds the
    bare number."""
    stored: str = ""
    """The unit, or the form, in which the file holds the value: `minutes`, `megabytes`, `fraction`, `hex`."""
    prefix: str = ""
    """What the file writes before the value, and nobody types."""
    suffix: str = ""
    """What the file writes after the value, such as `.wld`; size: the letter, such as `M` for megabytes."""
    form: str = ""
    """`colour`: `#rrggbb`, `r,g,b`, `r g b a`. vector: `{x} {y} {z}|{heading}`. date, time: as for strftime."""
    pasted: str = ""
    """`vector`: a pattern of a line of the log or the console that holds one, with its parts as groups; such a line
    may be pasted in place of a value."""
    scale: int = 255
    """`colour`: what a full part is, 255 or 1."""
    bounds: dict[str, tuple[float, float]] = field(default_factory=dict)
    """`vector`: the least and the most of a part."""
    separator: str = ","
    """`list`, `choices`: what separates the entries in the file; as `, ` spaces beside them do not count."""
    kind: str = ""
    """`id`, `list`: the kind of the entries, one of the rulebook's `[kind.NAME]`."""
    catalogue: tuple[str, ...] = ()
    """`id`, `list`: the built-in entries; those of the kind where it is empty."""
    of: str = ""
    """`list`: the type of each entry, such as `vector` or `path`; `form`, `bounds`, `below` and the like are then said
    of an entry."""
    offers: dict[str, str] = field(default_factory=dict)
    """`condition`: words that may be typed, each with the code that the file then holds."""
    unique: bool = True
    """`list`: no entry may be there twice."""
    below: str = ""
    """`path`: the folder, relative to the server's, that the path starts in."""
    endings: tuple[str, ...] = ()
    """`path`: how the name must end, such as `.chart`."""
    inverted: str = ""
    """What the scale means where it runs the other way round from its name: `1 means no wind at all`."""
    special: dict[str, TomlValue] = field(default_factory=dict)
    """Words for values outside the range: { off = 0 }."""
    choices: dict[str, str] = field(default_factory=dict)
    """The words it may be, each with what it means."""
    spelling: tuple[str, str] = ("true", "false")
    """`bool`: how the file writes true and false."""
    read_as: dict[str, bool] = field(default_factory=dict)
    """`bool`: more spellings that the server reads: `{ yes = true, no = false }`."""
    any_case: bool = False
    """`bool`, `choice`: the case of the letters does not count in the file."""
    pattern: str = ""
    """`text`, `secret`, `id`, `list`: the form of it, as a regular expression."""
    ids: ItemKind | None = None
    """`id`: its kind spelt out, in place of a `kind`."""
    example: str = ""
    """Something that may be typed."""
    blocked: Blocked | None = None
    """`text`: words that must not be in it."""
    line_break: str = field(default="", name="line-break")
    """`text`: what stands for a new line in the file."""
    schemes: tuple[str, ...] = ("http", "https")
    """`url`: the allowed schemes."""
    takes: Takes = "restart"
    """When a change takes effect."""
    fixed_by: str = ""
    """The setting that names the world which fixes this one."""
    tier: Literal["basic", "advanced"] = "basic"
    """Basic settings are shown first."""
    live: Live | None = None
    """How the console sets and reads it."""
    shown: str = ""
    """A pattern of the start log whose group `value` shows what the server took."""
    kept_in: str = ""
    """Of a setting without a file: where the server keeps it, such as `the world's database`. It can be looked at,
    and is changed by the console command of `live` alone, or by nothing."""
    index: tuple[int | str, ...] = ()
    """One value for each of these, such as levels: `fee[1]`; `{index}` in `key` stands for it."""
    defaults: tuple[TomlValue, ...] = ()
    """With `index`: the default of each."""
    """With ``index``: the default of each."""
    also: tuple[OtherPlace, ...] = ()
    """More places that hold the same value and must agree with it; they are written together."""
    overridden_by: str = ""
    """An expression; while it holds, the server does not look at the setting."""
    only: tuple[str, ...] = ()
    """The editions that have the setting; all where it is empty."""
    only_choices: dict[str, tuple[str, ...]] = field(default_factory=dict)
    """`choice`: the editions that have a choice, for those that not every edition has."""
    since: str = ""
    """The first version that has the setting."""
    until: str = ""
    """The first version that no longer has it."""


class ListOf(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """An ordered list of plain values that fills a file, or is a part of one."""

    file: str
    """One of the rulebook's files."""
    item: str
    """The kind of its entries."""
    at: str = ""
    """Where the list is in the file, if it does not fill it: the key of a list, a command or a flag that is
    repeated, or the section whose lines are the entries."""
    about: str = ""
    """What it is a list of."""
    advice: str = ""
    """What one should know before changing it."""
    least: int = 0
    """The fewest entries that the server takes."""
    most: int | None = None
    """The most entries that the server takes."""
    unique: bool = False
    """Whether each entry may be there once only."""
    takes: Takes = "restart"
    """When a change takes effect."""


class RecordField(Setting, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One field of the records of a set, with all that a setting may say; its ``key`` is its name, if it names none."""

    to: str = ""
    """`ref`, `refs`: the set whose records it names."""
    needed: bool = False
    """Whether every record must have it."""
    unique: bool = False
    """Whether no two records may have the same; list: no entry twice."""
    distinct: Literal["", "note", "warning"] = ""
    """How odd it is that two records have the same: a note, or a warning."""
    seen: bool = False
    """`list`: an entry may be outside the catalogue where another record of the set has it as well."""


class RecordSet(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Gameplay records of one kind, or the people of a list: rows with typed fields."""

    file: str
    """One of the rulebook's files."""
    at: str
    """Where the records are: `officers[*]` for the items of a list or the repetitions of a command, `ranks.*` for
    the entries of a map, `[*]` for the lines of a file; with `parts`, the key of the value."""
    key: str = "*"
    """The field that names a record; `*` where its name in the file does, or its line."""
    title: str = ""
    """How a record is listed: {name} ({id})."""
    about: str = ""
    """What the records are."""
    form: str = ""
    """The form of a record that is one text: `{id} {level}`, `{item}|{chance}`."""
    parts: str = ""
    """What stands between the records where one value holds them all, such as `,`."""
    signs: dict[str, str] = field(default_factory=dict)
    """Of a line such as `+this -that`, the sign before the words of each field: `{ may = "+" }`."""
    turned: str = ""
    """Of a map of lists whose items are the records: the field that the map's names are values of."""
    ordered: str = ""
    """The field whose numbers must rise from record to record."""
    used: bool = False
    """Whether a record that no other one names is odd."""
    reload: str = ""
    """The console command that makes the server read the file again."""
    template: dict[str, TomlValue] = field(default_factory=dict)
    """What a new record has where nothing else is said."""
    least: int = 0
    """The fewest records that the server takes."""
    most: int | None = None
    """The most records that the server takes."""
    partly: bool = False
    """True where records have more fields than are described."""
    kind: str = ""
    """With `key` `*`: the kind of ids that the names of the records are."""
    takes: Takes = "restart"
    """When a change takes effect."""
    field: dict[str, RecordField] = field(default_factory=dict)  # the last: it takes the name that makes defaults
    """The fields that a record has."""


Draw = Literal["each", "one", "some"]


class LootSource(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How a game draws things from the entries that a record has."""

    entries: tuple[str, ...] = ()
    """The fields that hold the entries: lists of texts or of objects, maps of chances, or single things."""
    entry: tuple[str, ...] = ("{what}",)
    """The forms of an entry, the first that fits counts, of {what}, {chance} and {count}, such as
    `{what}*{count}|{chance}`. Of an entry that is an object: its keys, as in `what=item`, `chance=chance`,
    `count=count`, `least=min`, `most=max`."""
    draw: Draw = "each"
    """`each`: every entry has its own chance. `one`: one of the entries, by weight. `some`: several of them."""
    draw_by: str = ""
    """The field that says how this record draws: `each`, `one` or `some`."""
    draws: str = "1"
    """`some`: how many are drawn, such as `3` or `2-4`, or the field that says so; it may hold a range."""
    again: bool = True
    """`some`: whether an entry can be drawn more than once."""
    whole: float = 0
    """`one`, `some`: what the weights are parts of, and what is missing is nothing; 0: of their own sum."""
    full: float = 1
    """What a chance is when it is sure: 1, or 100 for percent."""
    without: float = 1
    """The chance, or weight, of an entry that names none."""
    sure: str = ""
    """The field, a switch: where it is on, the record gives all it has, chances aside."""
    left_out: str = ""
    """The field with a share that is left out before anything else is drawn."""
    left_out_is: Literal["missing", "there"] = "missing"
    """What the share counts: `missing`, where 1 means that nothing is there, or `there`, where 0 does."""
    left_out_of: Literal["entry", "record"] = "entry"
    """Whether each entry is left out by itself, or all of them at once."""
    nothing: str = ""
    """The name of an entry that stands for nothing."""


class LootTable(LootSource, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A set of records that an entry can name in place of a thing."""

    prefix: str = ""
    """What stands before the name of such a record; empty: the bare name."""
    used: bool = False
    """Whether a record that no entry names is odd."""


class Loot(LootSource, kw_only=True, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What players find: which records are opened, and how a game draws what is in them."""

    records: str
    """The set of records that are opened, such as crates."""
    at_once: str = ""
    """The field that says how many of a record there are at once; empty: one."""
    places: str = ""
    """The field with the places where they can be; there are never more at once than places."""
    about: str = ""
    """What it is."""
    table: dict[str, LootTable] = field(default_factory=dict)
    """Sets whose records an entry may name, each with its rules."""


class Curve(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """`levels`: the points that each needs, what it grants, and what can be bought for that."""

    records: str
    """The set of records that are levels, in their order."""
    level: str = ""
    """The field with the number of a level; empty: they are counted from 1."""
    points: str = "points"
    """The field with the points that a level needs."""
    each: bool = False
    """Whether `points` are counted from the level before, and not from the start."""
    grants: str = ""
    """The field with what a level grants to be spent; empty: nothing."""
    costs: str = ""
    """The set of records that are bought with it."""
    cost: str = "cost"
    """The field with what such a record costs."""
    needs: str = "level"
    """The field with the level that such a record needs."""
    out_of_reach: str = ""
    """An expression about such a record's fields: where it holds, nobody is meant to get it."""
    hidden: str = ""
    """The field, a switch, that hides such a record from players."""
    about: str = ""
    """What it is."""


class RosterLive(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How a running server is told, and asked, who is on a roster; `{id}` and the fields may be in each text."""

    add: str = ""
    """The console command that puts somebody on it: `ban {id} {name}`."""
    remove: str = ""
    """The console command that takes somebody off it: `unban {id}`."""
    ask: str = ""
    """The console command whose answer shows whether somebody is on it: `who {id}`."""
    shows: str = ""
    """A pattern that matches a line of that answer if somebody is on it."""


class Roster(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A set of records whose keys are ids of people."""

    records: str
    """The set of records."""
    meaning: Literal["admin", "allow", "ban", "other"] = "other"
    """What it is to be on it."""
    rank: str = ""
    """The field that says what somebody is on it."""
    may: str = ""
    """The field of permissions that somebody is granted besides those of the rank."""
    never: str = ""
    """The field of permissions that somebody is denied."""
    until: str = ""
    """The field, a date, that says when somebody's time on it ends."""
    on: str = ""
    """An expression that must hold for the roster to count."""
    switch: dict[str, TomlValue] = field(default_factory=dict)
    """The values that let it count."""
    live: RosterLive | None = None
    """How a running server is told; see `[roster.NAME.live]`."""
    about: str = ""
    """What it is."""


class RankFlags(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Ranks whose fields are permissions, each on or off."""

    on: str = "1"
    """The value of a field that grants its permission."""
    off: str = "0"
    """The value of a field that denies it."""
    everything: str = ""
    """The field that grants everything, with exceptions."""
    but: tuple[str, ...] = ()
    """The permissions that `everything` leaves out."""


class RankStep(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One rank of a ladder that is laid down where there are no ranks yet."""

    name: str
    """The rank."""
    may: tuple[str, ...] = ()
    """The permissions that it grants."""
    also: tuple[str, ...] = ()
    """The ranks whose permissions it has too."""
    fields: dict[str, TomlValue] = field(default_factory=dict)
    """Other fields, such as a colour."""


class Ranks(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Which records are ranks, who is in them, and how it is decided who may do what."""

    groups: str = ""
    """The set of records that are ranks; with `levels`, none."""
    more: tuple[str, ...] = ()
    """Other sets whose records have the names of ranks, and give more of their fields: rights, colours."""
    levels: str = ""
    """The set of records that are permissions, where the ranks are numbers and each may what is not above."""
    level: str = "level"
    """With `levels`: the field with the number that a permission needs."""
    flags: RankFlags | None = None
    """Where each permission is a field of a rank; see `[ranks.NAME.flags]`."""
    world: str = ""
    """The setting that says whose ranks count, where a file by pattern holds those of each world."""
    about: str = ""
    """What they are."""
    when: str = ""
    """An expression that must hold for them to count, where a server may keep several."""
    may: str = "may"
    """The field of permissions that a rank grants."""
    never: str = "never"
    """The field of permissions that a rank denies."""
    also: str = "also"
    """The field of ranks whose permissions a rank has too."""
    power: str = ""
    """The field with a rank's power, for `order = "highest-power"`."""
    newcomers: str = ""
    """The rank of whoever has none: its name, or FILE:KEY where a file says it, such as `ranks.yml:newcomers`."""
    newcomer: str = ""
    """The field, a switch, that is on for the rank of newcomers."""
    members: tuple[str, ...] = ()
    """The rosters whose rank is one of these."""
    order: Literal["deny-wins", "nearest-wins", "last-wins", "highest-power"] = "deny-wins"
    """Which of several entries about one permission counts."""
    any_case: bool = False
    """Whether the case of a permission does not count."""
    unknown: Literal["may-not", "may"] = "may-not"
    """What counts where no entry is about a permission."""
    wildcard: str = "*"
    """The sign at the end of an entry that stands for all that follows."""
    permissions: dict[str, str] = field(default_factory=dict)
    """The permissions that the game has, and what each is for."""
    base: dict[str, str] = field(default_factory=dict)
    """Permissions that are of no use without another: `{ "chat.mute" = "chat.say" }`."""
    dangerous: tuple[str, ...] = ()
    """Permissions that not everybody should have."""
    trusted: str = ""
    """The lowest rank that may have what is dangerous, and a wildcard for all."""
    ladder: tuple[RankStep, ...] = ()
    """The ranks that are laid down where there are none yet."""


class Rule(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What must hold across settings and lists."""

    name: str
    """Its name."""
    needs: str
    """An expression that must hold."""
    say: str
    """What is wrong where it does not."""
    level: Literal["error", "warning", "note"] = "error"
    """How bad that is."""
    do: str = ""
    """A command that helps; {server} stands for the server."""


class AdviceTable(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Advice in rows: up to so much of one value, no more than so much of a setting."""

    given: str
    """A setting, or a fact of the machine such as `machine.memory`."""
    most: str
    """The setting that the table is about."""
    rows: tuple[tuple[TomlValue, TomlValue], ...]
    """`rising`: a value of `given`, as people say it, and the most that it carries of the other."""
    about: str = ""
    """Why."""


class Mods(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How a game takes mods; ``{mod}`` in a path stands for the name of one."""

    list: str
    """The setting, of type `list`, that names the mods in their order."""
    folder: str
    """The folder that each mod must have."""
    copies: dict[str, str] = field(default_factory=dict)
    """Files to copy where they are missing, from the mod's folder to where the server wants them: from = to."""
    needs: str = ""
    """A file of the mod that names the mods it needs, one on a line; they stand before it in the list."""


class Preset(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A named set of values."""

    set: dict[str, TomlValue]
    """Setting = value, as people say it."""
    about: str = ""
    """What it is for."""
    mode: dict[str, TomlValue] = field(default_factory=dict)
    """Values without which the others do not count, such as `{ "tide.mode" = "custom" }`."""


class Probe(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A question to a port and the answer that shows the server is at home there."""

    send: str = ""
    r"""What is sent to the port, as text; `\x00` stands for a byte, `\n` and `\r` for line ends."""
    hex: str = ""
    """In place of `send`: the bytes that are sent, in hex, with spaces as you like."""
    line_end: str = field(default="\n", name="line-end")
    """What is sent after the text of `send`; empty for nothing."""
    pad: int = 0
    """How many bytes are sent at least: zero bytes fill it up, as some servers answer no short question."""
    match: str = ""
    """A pattern of the answer, as text or, where it is none, with a letter U+00xx for each byte."""
    starts: str = ""
    """The bytes with which the answer begins, in hex."""
    least: int = 0
    """The fewest bytes of an answer."""
    within: str = "3s"
    """How long the answer may take."""


class Query(Probe, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A question whose answer holds values of settings: to a port, or by a command that only reads."""

    run: tuple[str, ...] = ()
    """A program and its arguments, run in the server's folder; it must change nothing. `{NAME}` stands for the
    setting of that name, `{folder}` for the server's folder."""
    port: str = ""
    """The setting that holds the port to ask."""
    plus: int = 0
    """How much higher the port is than the setting says."""
    address: str = ""
    """The setting that holds the address; empty: this machine."""
    protocol: Literal["tcp", "udp"] = "udp"
    """Tcp or udp."""


class Port(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A port that the running server must own; ``setting`` and ``address`` name settings."""

    setting: str = ""
    """The setting that holds the port; empty where it is always `number`."""
    number: int = 0
    """The port, where no setting holds it."""
    plus: int = 0
    """How much higher the port is than the setting says, for a neighbour of it."""
    address: str = ""
    """The setting that holds the address."""
    bind: str = ""
    """The address, where no setting holds it: `127.0.0.1`."""
    protocol: Literal["tcp", "udp"] = "udp"
    """Tcp or udp."""
    needs: str = ""
    """An expression: the port is only opened where it holds."""
    probe: Probe | None = None
    """A question that shows that the server is at home there."""


class ConsoleStep(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One line for the console, and what to wait for before the next."""

    send: str
    """The console line."""
    match: str = ""
    """A pattern of the answer that shows that it is done; empty: nothing is waited for."""
    within: str = "30s"
    """How long to wait for that answer."""


class RemoteConsole(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A console that is not the server's standard input: on a port, or a named pipe."""

    kind: Literal["tcp", "packets", "datagrams", "pipe"] = "tcp"
    """`tcp`: lines of text, after a password. `packets`: binary packets on TCP, with a length, a request number and
    a type each. `datagrams`: text packets on UDP. `pipe`: a named pipe for lines, answered in the log."""
    port: str = ""
    """The setting that holds its port."""
    password: str = ""
    """The setting that holds its password."""
    address: str = ""
    """The setting that holds its address."""
    path: str = ""
    """`pipe`: its path in the server's folder."""
    prompt: str = ""
    """`tcp`: a pattern of what the console writes before each line, and is not part of it."""
    echo: bool = False
    """`tcp`: whether the console sends back each line that it is sent."""
    challenge: str = ""
    """`datagrams`: the text that asks for a challenge; empty where the console wants none."""
    challenged: str = ""
    """`datagrams`: a pattern of the answer to that, with a group challenge."""
    packet: str = ""
    """`datagrams`: a command as it is sent, with {password}, {challenge} and {line}; bytes as in a probe's `send`."""
    answer: str = ""
    """`datagrams`: what an answer begins with, and is not part of it; bytes as in `packet`."""
    needs: str = ""
    """An expression: the server opens this console only where it holds."""
    asks: str = ""
    """A pattern: it asks for the password."""
    welcome: str = ""
    """A pattern: the password was right."""
    refused: str = ""
    """A pattern: the password was wrong."""


class Lobby(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """The public list of servers: where it answers, and how to find oneself in it."""

    url: str
    """Its address; settings in braces."""
    items: str = ""
    """Where the list is in the answer."""
    ours: dict[str, str] = field(default_factory=dict)
    """Field = setting: how to find oneself in the list."""
    shows: dict[str, str] = field(default_factory=dict)
    """Field = setting: what the list shows of it."""
    needs: str = ""
    """An expression: it is asked only where it holds."""
    within: str = "10s"
    """How long it may take until it shows the server."""


class ServerSpec(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How the server's process behaves, and what its log and console say."""

    process: str = ""
    """A pattern of the command line by which the server's process is known, however it was started."""
    ready: str = ""
    """A pattern of the log: the server is up."""
    terminal: bool = False
    """Whether it is started in a terminal, as it reads no console without one, or says nothing."""
    pidfile: str = ""
    """The file in which a server that goes into the background writes its process; empty: it does not go there."""
    before_stop: tuple[ConsoleStep, ...] = field(default=(), name="before-stop")
    """Console lines before it is stopped, in order: save first."""
    hold: tuple[ConsoleStep, ...] = ()
    """Console lines that save, and hold further saving, so that its files can be copied while it runs."""
    resume: tuple[ConsoleStep, ...] = ()
    """Console lines that let it save again after `hold`."""
    stop: str = ""
    """The console line that stops it."""
    stop_again: str = field(default="", name="stop-again")
    """After how long `stop` is sent once more, within the grace time; empty: it is sent once."""
    signals: tuple[str, ...] = ("SIGTERM",)
    """The signals that stop it, one after the other, each with the grace time or with a time of its own: `["SIGINT
    2s", "SIGINT"]` for one that wants two."""
    kill: bool = False
    """Whether a stop may end in SIGKILL."""
    grace: str = "20s"
    """How long a stop may take."""
    start_within: str = field(default="60s", name="start-within")
    """How long a start may take."""
    watch: str = "5s"
    """How long a server that is ready is watched."""
    stdin_needs: str = field(default="", name="stdin-needs")
    """An expression: the server reads its standard input only where it holds; empty: it does."""
    stdin_refuses: str = field(default="", name="stdin-refuses")
    """A pattern of an answer: the console may not do what it was told, so nothing can be read there."""
    console_escapes: bool = field(default=False, name="console-escapes")
    """Whether a backslash before a quote makes it a letter, in a console line's quotes."""
    console_ends: str = field(default="", name="console-ends")
    """The signs that end a command at the console, such as `;`; no value outside quotes may have them."""
    say: str = ""
    """The console line that tells the players; {text} stands for the message."""
    slots: str = ""
    """The setting that says how many players the server takes."""
    memory: str = ""
    """The setting, a size, that says how much memory the server may take."""
    cores: str = ""
    """The setting, of type `cores`, that says which processor cores it may use."""
    failures: tuple[str, ...] = ()
    """Patterns of the log that mean a failed start."""
    logs: tuple[str, ...] = ()
    """The logs in the server's folder, as patterns such as logs/*.log*; compressed ones too."""
    log_prefix: str = ""
    """A pattern of what each line of those logs has before what the console shows, such as the time."""
    log_time: str = ""
    """The form of the group time in joined and left, as for strftime."""
    joined: str = ""
    """A pattern of the log: somebody came, with groups name and id."""
    left: str = ""
    """A pattern of the log: somebody left."""
    worlds: tuple[str, ...] = ()
    """Folders that hold worlds, saved with a round where asked."""
    console: RemoteConsole | None = None
    """A console on a port, or a named pipe."""
    port: tuple[Port, ...] = ()
    """The ports that the running server must own."""
    lobby: Lobby | None = None
    """The public list of servers."""


class Action(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Something that a running server does at once, at its console, and that changes no file."""

    send: str
    """The console line; {argument} stands for an argument as it is sent."""
    about: str = ""
    """What it does."""
    match: str = ""
    """A pattern of the answer that shows that it was done."""
    refused: str = ""
    """A pattern of the answer that shows that it was not."""
    asks: bool = False
    """Whether a person is asked first, as it cannot be taken back."""
    argument: dict[str, RecordField] = field(default_factory=dict)
    """Its arguments in order, each with all that a setting may say; one with a `default` may be left out."""


class Rulebook(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A whole rulebook."""

    rulebook: About
    """What it is."""
    file: dict[str, File] = field(default_factory=dict)
    """The server's files."""
    setting: dict[str, Setting] = field(default_factory=dict)
    """Its settings."""
    list: dict[str, ListOf] = field(default_factory=dict)
    """Its lists."""
    kind: dict[str, ItemKind] = field(default_factory=dict)
    """Kinds of ids and list entries."""
    rule: tuple[Rule, ...] = ()
    """What must hold across them."""
    records: dict[str, RecordSet] = field(default_factory=dict)
    """Sets of records."""
    roster: dict[str, Roster] = field(default_factory=dict)
    """Records of people."""
    ranks: dict[str, Ranks] = field(default_factory=dict)
    """Which records are ranks, and how they decide who may do what."""
    loot: dict[str, Loot] = field(default_factory=dict)
    """What players find, and how a game draws it."""
    curve: dict[str, Curve] = field(default_factory=dict)
    """Levels, and what they grant."""
    query: dict[str, Query] = field(default_factory=dict)
    """Questions whose answers hold values."""
    action: dict[str, Action] = field(default_factory=dict)
    """What the server does at once, at its console."""
    table: dict[str, AdviceTable] = field(default_factory=dict)
    """Advice in rows."""
    preset: dict[str, Preset] = field(default_factory=dict)
    """Named sets of values."""
    mods: Mods | None = None
    """How the game takes mods."""
    withdraw: tuple[str, ...] = ()
    """Settings, lists, rules and presets of the layers below that this one does without."""
    server: ServerSpec = field(default_factory=ServerSpec)
    """How its process behaves."""

    @property
    def name(self) -> str:
        """The rulebook's name."""
        return self.rulebook.name


NO_RULEBOOK = Rulebook(rulebook=About(name="none", title="no rulebook"))
"""For a server whose game nobody has described: its files are still addressed, checked and edited."""
