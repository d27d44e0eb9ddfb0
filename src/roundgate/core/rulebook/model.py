"""The rulebook as plain typed values, in the shape in which its TOML file is written.

Nothing of a game is in code; all of it is in values of these types. Numbers are in the unit that the file uses.
"""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta, Struct, field

from roundgate.core.formats.protocol import USUAL, Dialect

TomlValue = bool | int | float | str
"""A value as TOML writes it."""

Takes = Literal["live", "restart", "new-world"]


def _about(words: str) -> Meta:
    """Say what a field means: JSON Schema and the documents show it."""
    return Meta(description=words)


class Model(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Common to every part: frozen, and a name that the language does not know is an error."""


class Version(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Where the server's version can be read: a file in its folder, and a pattern with a group ``version``."""

    file: Annotated[str, _about("the file that has the version, such as a log")]
    match: Annotated[str, _about("a pattern with a group version")]


class About(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """The ``[rulebook]`` table."""

    name: Annotated[str, _about("the rulebook's name")]
    title: Annotated[str, _about("what people call the game's server")] = ""
    layers: Annotated[tuple[str, ...], _about("rulebooks beneath this one, the lowest first")] = ()
    editions: Annotated[tuple[str, ...], _about("the editions of the game, where they differ")] = ()
    version: Annotated[Version | None, _about("where the server's version can be read")] = None


class File(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One file of the server, its path relative to the server's folder.

    A name in braces in the path, as in ``worlds/{world}/rules.ini``, stands for every folder or file that there is.
    """

    path: Annotated[
        str,
        _about(
            "the path in the server's folder; a name in braces, as in worlds/{world}/rules.ini, "
            "stands for every folder or file there is"
        ),
    ]
    format: Annotated[
        str, _about("properties, ini, directives, lines, json, yaml, toml, xml, launch, lua or statements")
    ]
    about: Annotated[str, _about("what is in it")] = ""
    rewritten: Annotated[
        Literal["never", "at-start", "at-stop", "while-running"], _about("when the server itself rewrites the file")
    ] = "never"
    made: Annotated[
        Literal["shipped", "first-run", "by-hand"],
        _about("where the file comes from: with the server, from its first run, or by hand"),
    ] = "shipped"
    owner: Annotated[Literal["site", "game"], _about("`game`: an update of the game overwrites the file")] = "site"
    overridden_by: Annotated[
        str,
        _about(
            "another file of the rulebook with the same keys, whose values count before those of this one; of two that "
            "hold records, those that only this one has count too"
        ),
    ] = ""
    includes: Annotated[
        str, _about("the key whose values name more files of this format, which the server reads in its place")
    ] = ""
    chosen_by: Annotated[
        str, _about("with a name in braces: the setting whose value says which of the files the server reads")
    ] = ""
    belongs_to: Annotated[
        str, _about("with a name in braces: the path, with the same name in it, that exists where the file is of use")
    ] = ""
    others: Annotated[
        Literal["noted", "allowed"] | tuple[str, ...],
        _about(
            "keys that the rulebook does not describe: `noted` in one note, `allowed`, or a list of those allowed, "
            'with `*` for any letters: `["debug_*", "export *"]`; misspellings of described keys are found all the same'
        ),
    ] = "noted"
    header: Annotated[tuple[str, ...], _about("the first lines of the file where Round Gate makes it")] = ()
    dialect: Annotated[Dialect, _about("how the game reads the file, where its format leaves room")] = USUAL


class Live(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How a setting is set and read at the live console; ``{value}`` stands for the stored value."""

    set: Annotated[str, _about("the console line that sets it; {value} stands for the value as stored")] = ""
    read: Annotated[str, _about("the console line that asks for it")] = ""
    query: Annotated[
        str, _about("the `[query.NAME]` whose answer holds the value, where the console cannot be asked")
    ] = ""
    match: Annotated[str, _about("a pattern of the answer, with a group value")] = ""
    bytes: Annotated[
        tuple[int, int] | None,
        _about("of a query whose answer is binary: where the value begins, from 0, and how many bytes it has"),
    ] = None
    order: Annotated[
        Literal["little", "big", "text"],
        _about("with `bytes`: a whole number, its least byte first (little) or last (big), or a text"),
    ] = "little"

    @property
    def can_be_read(self) -> bool:
        """Whether the running server can be asked for the value."""
        return bool(self.read or self.query)


class Blocked(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Words that may not stand inside a text, and what happens when they do."""

    words: Annotated[tuple[str, ...], _about("words that must not be part of the text, case aside")]
    because: Annotated[str, _about("what happens when one is")] = ""


class OtherPlace(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A second place that holds the same value."""

    key: Annotated[str, _about("its key there")]
    file: Annotated[str, _about("empty: the setting's own file")] = ""
    optional: Annotated[bool, _about("where the place has nothing, that is no difference")] = False


class ItemKind(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What an entry of a list may be: built-in names, a pattern, and how to say it."""

    about: Annotated[str, _about("what an entry is")] = ""
    catalogue: Annotated[tuple[str, ...], _about("the built-in names")] = ()
    pattern: Annotated[str, _about("the form of any other")] = ""
    example: Annotated[str, _about("something that may be typed")] = ""
    advice: Annotated[str, _about("what one should know")] = ""
    prefix: Annotated[str, _about("what every id begins with, for those who leave it out")] = ""
    suffix: Annotated[str, _about("what every id ends with, for those who leave it out")] = ""
    case: Annotated[
        Literal["", "upper", "lower", "any"],
        _about("of letters in an id: `upper` or `lower` alone are right; with `any`, case makes no other id"),
    ] = ""
    optional: Annotated[str, _about("signs that may be left out, and are put where the example has them: `-`")] = ""
    check: Annotated[
        Literal["", "luhn", "mod11", "mod97"],
        _about("how the last signs of an id are worked out of the others (ISO/IEC 7812, ISO 7064 MOD 11-2, MOD 97-10)"),
    ] = ""


class Setting(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One named value of a server."""

    type: Annotated[str, _about("the kind of value")]
    file: Annotated[str, _about("one of the rulebook's files; empty where only the live console has the setting")] = ""
    key: Annotated[str, _about("its key in that file, written as for FILE:KEY")] = ""
    default: Annotated[TomlValue | None, _about("what counts where the file says nothing")] = None
    about: Annotated[str, _about("what it means, in a sentence")] = ""
    advice: Annotated[str, _about("what one should know before changing it")] = ""
    advice_when: Annotated[
        str, _about("an expression like a rule's; the advice is given only where it holds. Empty: always")
    ] = ""
    range: Annotated[tuple[float, float] | None, _about("the least and the most, in the file's unit")] = None
    step: Annotated[float | None, _about("it goes in steps of this, in the file's unit")] = None
    places: Annotated[int | None, _about("decimal: so many digits behind the point, neither more nor fewer")] = None
    limit: Annotated[str, _about("an expression, such as `machine.memory`; the value must not be greater")] = ""
    length: Annotated[tuple[int, int] | None, _about("text, secret: the characters; list, choices: the entries")] = None
    unit: Annotated[
        str,
        _about(
            "int, decimal: what the number counts, such as `knots`; it may be typed and is shown, "
            "and the file holds the bare number"
        ),
    ] = ""
    stored: Annotated[
        str,
        _about("the unit, or the form, in which the file holds the value: `minutes`, `megabytes`, `fraction`, `hex`"),
    ] = ""
    prefix: Annotated[str, _about("what the file writes before the value, and nobody types")] = ""
    suffix: Annotated[
        str,
        _about("what the file writes behind the value, such as `.wld`; size: the letter, such as `M` for megabytes"),
    ] = ""
    form: Annotated[
        str,
        _about("colour: `#rrggbb`, `r,g,b`, `r g b a`. vector: `{x} {y} {z}|{heading}`. date, time: as for strftime"),
    ] = ""
    pasted: Annotated[
        str,
        _about(
            "vector: a pattern of a line of the log or the console that holds one, with its parts as groups; such a "
            "line may be pasted in place of a value"
        ),
    ] = ""
    scale: Annotated[int, _about("colour: what a full part is, 255 or 1")] = 255
    bounds: Annotated[dict[str, tuple[float, float]], _about("vector: the least and the most of a part")] = field(
        default_factory=dict
    )
    separator: Annotated[
        str, _about("list, choices: what parts the entries in the file; as `, ` blanks beside them do not count")
    ] = ","
    kind: Annotated[str, _about("id, list: the kind of the entries, one of the rulebook's `[kind.NAME]`")] = ""
    catalogue: Annotated[
        tuple[str, ...], _about("id, list: the built-in entries; those of the kind where it is empty")
    ] = ()
    of: Annotated[
        str,
        _about(
            "list: the type of each entry, such as `vector` or `path`; `form`, `bounds`, `below` and the like are then "
            "said of an entry"
        ),
    ] = ""
    offers: Annotated[
        dict[str, str],
        _about("condition: words that may be typed, each with the code that the file then holds"),
    ] = field(default_factory=dict)
    unique: Annotated[bool, _about("list: no entry may be there twice")] = True
    below: Annotated[str, _about("path: the folder, relative to the server's, that the path starts in")] = ""
    endings: Annotated[tuple[str, ...], _about("path: how the name must end, such as `.chart`")] = ()
    inverted: Annotated[
        str, _about("what the scale means where it runs the other way round from its name: `1 means no wind at all`")
    ] = ""
    special: Annotated[dict[str, TomlValue], _about("words for values outside the range: { off = 0 }")] = field(
        default_factory=dict
    )
    choices: Annotated[dict[str, str], _about("the words it may be, each with what it means")] = field(
        default_factory=dict
    )
    spelling: Annotated[tuple[str, str], _about("bool: how the file writes true and false")] = ("true", "false")
    read_as: Annotated[
        dict[str, bool],
        _about("bool: more spellings that the server reads: `{ yes = true, no = false }`"),
    ] = field(default_factory=dict)
    any_case: Annotated[bool, _about("bool, choice: the case of the letters does not count in the file")] = False
    pattern: Annotated[str, _about("text, secret, id, list: the form of it, as a regular expression")] = ""
    ids: Annotated[ItemKind | None, _about("id: its kind spelt out, in place of a `kind`")] = None
    example: Annotated[str, _about("something that may be typed")] = ""
    blocked: Annotated[Blocked | None, _about("text: words that must not be in it")] = None
    line_break: Annotated[str, _about("text: what stands for a new line in the file")] = field(
        default="", name="line-break"
    )
    schemes: Annotated[tuple[str, ...], _about("url: the allowed schemes")] = ("http", "https")
    takes: Annotated[Takes, _about("when a change takes effect")] = "restart"
    fixed_by: Annotated[str, _about("the setting that names the world which fixes this one")] = ""
    tier: Annotated[Literal["basic", "advanced"], _about("basic settings are shown first")] = "basic"
    live: Annotated[Live | None, _about("how the console sets and reads it")] = None
    shown: Annotated[str, _about("A pattern of the start log whose group `value` shows what the server took")] = ""
    kept_in: Annotated[
        str,
        _about(
            "of a setting without a file: where the server keeps it, such as `the world's database`. It can be looked "
            "at, and is changed by the console command of `live` alone, or by nothing"
        ),
    ] = ""
    index: Annotated[
        tuple[int | str, ...],
        _about("one value for each of these, such as levels: `fee[1]`; `{index}` in `key` stands for it"),
    ] = ()
    defaults: Annotated[tuple[TomlValue, ...], _about("with `index`: the default of each")] = ()
    """With ``index``: the default of each."""
    also: Annotated[
        tuple[OtherPlace, ...],
        _about("more places that hold the same value and must agree with it; they are written together"),
    ] = ()
    overridden_by: Annotated[str, _about("an expression; while it holds, the server does not look at the setting")] = ""
    only: Annotated[tuple[str, ...], _about("the editions that have the setting; all where it is empty")] = ()
    only_choices: Annotated[
        dict[str, tuple[str, ...]],
        _about("choice: the editions that have a choice, for those that not every edition has"),
    ] = field(default_factory=dict)
    since: Annotated[str, _about("the first version that has the setting")] = ""
    until: Annotated[str, _about("the first version that no longer has it")] = ""


class ListOf(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """An ordered list of plain values that fills a file, or is a part of one."""

    file: Annotated[str, _about("one of the rulebook's files")]
    item: Annotated[str, _about("the kind of its entries")]
    at: Annotated[
        str,
        _about(
            "where the list is in the file, if it does not fill it: the key of a list, a command or a flag that is "
            "repeated, or the section whose lines are the entries"
        ),
    ] = ""
    about: Annotated[str, _about("what it is a list of")] = ""
    advice: Annotated[str, _about("what one should know before changing it")] = ""
    least: Annotated[int, _about("the fewest entries that the server takes")] = 0
    most: Annotated[int | None, _about("the most entries that the server takes")] = None
    unique: Annotated[bool, _about("whether each entry may be there once only")] = False
    takes: Annotated[Takes, _about("when a change takes effect")] = "restart"


class RecordField(Setting, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One field of the records of a set, with all that a setting may say; its ``key`` is its name, if it names none."""

    to: Annotated[str, _about("ref, refs: the set whose records it names")] = ""
    needed: Annotated[bool, _about("whether every record must have it")] = False
    unique: Annotated[bool, _about("whether no two records may have the same; list: no entry twice")] = False
    distinct: Annotated[
        Literal["", "note", "warning"], _about("how odd it is that two records have the same: a note, or a warning")
    ] = ""
    seen: Annotated[
        bool,
        _about("list: an entry may be outside the catalogue where another record of the set has it as well"),
    ] = False


class RecordSet(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Gameplay records of one kind, or the people of a list: rows with typed fields."""

    file: Annotated[str, _about("one of the rulebook's files")]
    at: Annotated[
        str,
        _about(
            "where the records are: `officers[*]` for the items of a list or the repetitions of a command, `ranks.*` "
            "for the entries of a map, `[*]` for the lines of a file; with `parts`, the key of the value"
        ),
    ]
    key: Annotated[str, _about("the field that names a record; `*` where its name in the file does, or its line")] = "*"
    title: Annotated[str, _about("how a record is listed: {name} ({id})")] = ""
    about: Annotated[str, _about("what the records are")] = ""
    form: Annotated[str, _about("the form of a record that is one text: `{id} {level}`, `{item}|{chance}`")] = ""
    parts: Annotated[str, _about("what stands between the records where one value holds them all, such as `,`")] = ""
    signs: Annotated[
        dict[str, str],
        _about('of a line such as `+this -that`, the sign before the words of each field: `{ may = "+" }`'),
    ] = field(default_factory=dict)
    turned: Annotated[
        str, _about("of a map of lists whose items are the records: the field that the map's names are values of")
    ] = ""
    ordered: Annotated[str, _about("the field whose numbers must rise from record to record")] = ""
    used: Annotated[bool, _about("whether a record that no other one names is odd")] = False
    reload: Annotated[str, _about("the console command that makes the server read the file again")] = ""
    template: Annotated[dict[str, TomlValue], _about("what a new record has where nothing else is said")] = field(
        default_factory=dict
    )
    least: Annotated[int, _about("the fewest records that the server takes")] = 0
    most: Annotated[int | None, _about("the most records that the server takes")] = None
    partly: Annotated[bool, _about("true where records have more fields than are described")] = False
    kind: Annotated[str, _about("with `key` `*`: the kind of ids that the names of the records are")] = ""
    takes: Annotated[Takes, _about("when a change takes effect")] = "restart"
    field: Annotated[dict[str, RecordField], _about("the fields that a record has")] = field(default_factory=dict)
    """Last, for it takes the name that makes defaults."""


Draw = Literal["each", "one", "some"]


class LootSource(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How a game draws things from the entries that a record has."""

    entries: Annotated[
        tuple[str, ...],
        _about("the fields that hold the entries: lists of texts or of objects, maps of chances, or single things"),
    ] = ()
    entry: Annotated[
        tuple[str, ...],
        _about(
            "the forms of an entry, the first that fits counts, of {what}, {chance} and {count}, such as "
            "`{what}*{count}|{chance}`. Of an entry that is an object: its keys, as in `what=item`, `chance=chance`, "
            "`count=count`, `least=min`, `most=max`"
        ),
    ] = ("{what}",)
    draw: Annotated[
        Draw,
        _about("`each`: every entry has its own chance. `one`: one of the entries, by weight. `some`: several of them"),
    ] = "each"
    draw_by: Annotated[str, _about("the field that says how this record draws: `each`, `one` or `some`")] = ""
    draws: Annotated[
        str, _about("some: how many are drawn, such as `3` or `2-4`, or the field that says so; it may hold a range")
    ] = "1"
    again: Annotated[bool, _about("some: whether an entry can be drawn more than once")] = True
    whole: Annotated[
        float, _about("one, some: what the weights are parts of, and what is missing is nothing; 0: of their own sum")
    ] = 0
    full: Annotated[float, _about("what a chance is when it is sure: 1, or 100 for percent")] = 1
    without: Annotated[float, _about("the chance, or weight, of an entry that names none")] = 1
    sure: Annotated[str, _about("the field, a switch: where it is on, the record gives all it has, chances aside")] = ""
    left_out: Annotated[str, _about("the field with a share that is left out before anything else is drawn")] = ""
    left_out_is: Annotated[
        Literal["missing", "there"],
        _about("what the share counts: `missing`, where 1 means that nothing is there, or `there`, where 0 does"),
    ] = "missing"
    left_out_of: Annotated[
        Literal["entry", "record"], _about("whether each entry is left out by itself, or all of them at once")
    ] = "entry"
    nothing: Annotated[str, _about("the name of an entry that stands for nothing")] = ""


class LootTable(LootSource, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A set of records that an entry can name in place of a thing."""

    prefix: Annotated[str, _about("what stands before the name of such a record; empty: the bare name")] = ""
    used: Annotated[bool, _about("whether a record that no entry names is odd")] = False


class Loot(LootSource, kw_only=True, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What players find: which records are opened, and how a game draws what is in them."""

    records: Annotated[str, _about("the set of records that are opened, such as crates")]
    at_once: Annotated[str, _about("the field that says how many of a record there are at once; empty: one")] = ""
    places: Annotated[
        str, _about("the field with the places where they can be; there are never more at once than places")
    ] = ""
    about: Annotated[str, _about("what it is")] = ""
    table: Annotated[dict[str, LootTable], _about("sets whose records an entry may name, each with its rules")] = field(
        default_factory=dict
    )


class Curve(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Levels: the points that each needs, what it grants, and what can be bought for that."""

    records: Annotated[str, _about("the set of records that are levels, in their order")]
    level: Annotated[str, _about("the field with the number of a level; empty: they are counted from 1")] = ""
    points: Annotated[str, _about("the field with the points that a level needs")] = "points"
    each: Annotated[bool, _about("whether `points` are counted from the level before, and not from the start")] = False
    grants: Annotated[str, _about("the field with what a level grants to be spent; empty: nothing")] = ""
    costs: Annotated[str, _about("the set of records that are bought with it")] = ""
    cost: Annotated[str, _about("the field with what such a record costs")] = "cost"
    needs: Annotated[str, _about("the field with the level that such a record needs")] = "level"
    out_of_reach: Annotated[
        str, _about("an expression about such a record's fields: where it holds, nobody is meant to get it")
    ] = ""
    hidden: Annotated[str, _about("the field, a switch, that hides such a record from players")] = ""
    about: Annotated[str, _about("what it is")] = ""


class RosterLive(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How a running server is told, and asked, who is on a roster; `{id}` and the fields may be in each text."""

    add: Annotated[str, _about("the console command that puts somebody on it: `ban {id} {name}`")] = ""
    remove: Annotated[str, _about("the console command that takes somebody off it: `unban {id}`")] = ""
    ask: Annotated[str, _about("the console command whose answer shows whether somebody is on it: `who {id}`")] = ""
    shows: Annotated[str, _about("a pattern that matches a line of that answer if somebody is on it")] = ""


class Roster(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A set of records whose keys are ids of people."""

    records: Annotated[str, _about("the set of records")]
    meaning: Annotated[Literal["admin", "allow", "ban", "other"], _about("what it is to be on it")] = "other"
    rank: Annotated[str, _about("the field that says what somebody is on it")] = ""
    may: Annotated[str, _about("the field of permissions that somebody is granted besides those of the rank")] = ""
    never: Annotated[str, _about("the field of permissions that somebody is denied")] = ""
    until: Annotated[str, _about("the field, a date, that says when somebody's time on it ends")] = ""
    on: Annotated[str, _about("an expression that must hold for the roster to count")] = ""
    switch: Annotated[dict[str, TomlValue], _about("the values that let it count")] = field(default_factory=dict)
    live: Annotated[RosterLive | None, _about("how a running server is told; see `[roster.NAME.live]`")] = None
    about: Annotated[str, _about("what it is")] = ""


class RankFlags(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Ranks whose fields are permissions, each on or off."""

    on: Annotated[str, _about("the value of a field that grants its permission")] = "1"
    off: Annotated[str, _about("the value of a field that denies it")] = "0"
    everything: Annotated[str, _about("the field that grants everything, with exceptions")] = ""
    but: Annotated[tuple[str, ...], _about("the permissions that `everything` leaves out")] = ()


class RankStep(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One rank of a ladder that is laid down where there are no ranks yet."""

    name: Annotated[str, _about("the rank")]
    may: Annotated[tuple[str, ...], _about("the permissions that it grants")] = ()
    also: Annotated[tuple[str, ...], _about("the ranks whose permissions it has too")] = ()
    fields: Annotated[dict[str, TomlValue], _about("other fields, such as a colour")] = field(default_factory=dict)


class Ranks(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Which records are ranks, who is in them, and how it is decided who may do what."""

    groups: Annotated[str, _about("the set of records that are ranks; with `levels`, none")] = ""
    more: Annotated[
        tuple[str, ...],
        _about("other sets whose records have the names of ranks, and give more of their fields: rights, colours"),
    ] = ()
    levels: Annotated[
        str,
        _about("the set of records that are permissions, where the ranks are numbers and each may what is not above"),
    ] = ""
    level: Annotated[str, _about("with `levels`: the field with the number that a permission needs")] = "level"
    flags: Annotated[
        RankFlags | None, _about("where each permission is a field of a rank; see `[ranks.NAME.flags]`")
    ] = None
    world: Annotated[
        str, _about("the setting that says whose ranks count, where a file by pattern holds those of each world")
    ] = ""
    about: Annotated[str, _about("what they are")] = ""
    when: Annotated[str, _about("an expression that must hold for them to count, where a server may keep several")] = ""
    may: Annotated[str, _about("the field of permissions that a rank grants")] = "may"
    never: Annotated[str, _about("the field of permissions that a rank denies")] = "never"
    also: Annotated[str, _about("the field of ranks whose permissions a rank has too")] = "also"
    power: Annotated[str, _about('the field with a rank\'s power, for `order = "highest-power"`')] = ""
    newcomers: Annotated[
        str,
        _about(
            "the rank of whoever has none: its name, or FILE:KEY where a file says it, such as `ranks.yml:newcomers`"
        ),
    ] = ""
    newcomer: Annotated[str, _about("the field, a switch, that is on for the rank of newcomers")] = ""
    members: Annotated[tuple[str, ...], _about("the rosters whose rank is one of these")] = ()
    order: Annotated[
        Literal["deny-wins", "nearest-wins", "last-wins", "highest-power"],
        _about("which of several entries about one permission counts"),
    ] = "deny-wins"
    any_case: Annotated[bool, _about("whether the case of a permission does not count")] = False
    unknown: Annotated[Literal["may-not", "may"], _about("what counts where no entry is about a permission")] = (
        "may-not"
    )
    wildcard: Annotated[str, _about("the sign at the end of an entry that stands for all that follows")] = "*"
    permissions: Annotated[dict[str, str], _about("the permissions that the game has, and what each is for")] = field(
        default_factory=dict
    )
    base: Annotated[
        dict[str, str], _about('permissions that are of no use without another: `{ "chat.mute" = "chat.say" }`')
    ] = field(default_factory=dict)
    dangerous: Annotated[tuple[str, ...], _about("permissions that not everybody should have")] = ()
    trusted: Annotated[str, _about("the lowest rank that may have what is dangerous, and a wildcard for all")] = ""
    ladder: Annotated[tuple[RankStep, ...], _about("the ranks that are laid down where there are none yet")] = ()


class Rule(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What must hold across settings and lists."""

    name: Annotated[str, _about("its name")]
    needs: Annotated[str, _about("an expression that must hold")]
    say: Annotated[str, _about("what is wrong where it does not")]
    level: Annotated[Literal["error", "warning", "note"], _about("how bad that is")] = "error"
    do: Annotated[str, _about("a command that helps; {server} stands for the server")] = ""


class AdviceTable(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Advice in rows: up to so much of one value, no more than so much of a setting."""

    given: Annotated[str, _about("A setting, or a fact of the machine such as `machine.memory`")]
    most: Annotated[str, _about("the setting that the table is about")]
    rows: Annotated[
        tuple[tuple[TomlValue, TomlValue], ...],
        _about("rising: a value of `given`, as people say it, and the most that it carries of the other"),
    ]
    about: Annotated[str, _about("why")] = ""


class Mods(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How a game takes mods; ``{mod}`` in a path stands for the name of one."""

    list: Annotated[str, _about("the setting, of type `list`, that names the mods in their order")]
    folder: Annotated[str, _about("the folder that each mod must have")]
    copies: Annotated[
        dict[str, str],
        _about(
            "Files to copy where they are missing, from the mod's folder to where the server wants them: from = to."
        ),
    ] = field(default_factory=dict)
    needs: Annotated[
        str, _about("A file of the mod that names the mods it needs, one on a line; they stand before it in the list")
    ] = ""


class Preset(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A named set of values."""

    set: Annotated[dict[str, TomlValue], _about("setting = value, as people say it")]
    about: Annotated[str, _about("what it is for")] = ""
    mode: Annotated[
        dict[str, TomlValue],
        _about('values without which the others do not count, such as `{ "tide.mode" = "custom" }`'),
    ] = field(default_factory=dict)


class Probe(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A question to a port and the answer that shows the server is at home there."""

    send: Annotated[
        str, _about("what is sent to the port, as text; `\\x00` stands for a byte, `\\n` and `\\r` for line ends")
    ] = ""
    hex: Annotated[str, _about("in place of `send`: the bytes that are sent, in hex, with blanks as you like")] = ""
    line_end: Annotated[str, _about("what is sent behind the text of `send`; empty for nothing")] = field(
        default="\n", name="line-end"
    )
    pad: Annotated[
        int,
        _about("how many bytes are sent at least: zero bytes fill it up, as some servers answer no short question"),
    ] = 0
    match: Annotated[
        str, _about("a pattern of the answer, as text or, where it is none, with a letter U+00xx for each byte")
    ] = ""
    starts: Annotated[str, _about("the bytes with which the answer begins, in hex")] = ""
    least: Annotated[int, _about("the fewest bytes of an answer")] = 0
    within: Annotated[str, _about("how long the answer may take")] = "3s"


class Query(Probe, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A question whose answer holds values of settings: to a port, or by a command that only reads."""

    run: Annotated[
        tuple[str, ...],
        _about(
            "a program and its arguments, run in the server's folder; it must change nothing. `{NAME}` stands for the "
            "setting of that name, `{folder}` for the server's folder"
        ),
    ] = ()
    port: Annotated[str, _about("the setting that holds the port to ask")] = ""
    plus: Annotated[int, _about("how much higher the port is than the setting says")] = 0
    address: Annotated[str, _about("the setting that holds the address; empty: this machine")] = ""
    protocol: Annotated[Literal["tcp", "udp"], _about("tcp or udp")] = "udp"


class Port(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A port that the running server must own; ``setting`` and ``address`` name settings."""

    setting: Annotated[str, _about("the setting that holds the port; empty where it is always `number`")] = ""
    number: Annotated[int, _about("the port, where no setting holds it")] = 0
    plus: Annotated[int, _about("how much higher the port is than the setting says, for a neighbour of it")] = 0
    address: Annotated[str, _about("the setting that holds the address")] = ""
    bind: Annotated[str, _about("the address, where no setting holds it: `127.0.0.1`")] = ""
    protocol: Annotated[Literal["tcp", "udp"], _about("tcp or udp")] = "udp"
    needs: Annotated[str, _about("an expression: the port is only opened where it holds")] = ""
    probe: Annotated[Probe | None, _about("a question that shows that the server is at home there")] = None


class ConsoleStep(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One line for the console, and what to wait for before the next."""

    send: Annotated[str, _about("the console line")]
    match: Annotated[
        str, _about("a pattern of the answer that shows that it is done; empty: nothing is waited for")
    ] = ""
    within: Annotated[str, _about("how long to wait for that answer")] = "30s"


class RemoteConsole(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A console that is not the server's standard input: on a port, or a named pipe."""

    kind: Annotated[
        Literal["tcp", "packets", "datagrams", "pipe"],
        _about(
            "`tcp`: lines of text, after a password. `packets`: binary packets on TCP, with a length, a request number "
            "and a type each. `datagrams`: text packets on UDP. `pipe`: a named pipe for lines, answered in the log"
        ),
    ] = "tcp"
    port: Annotated[str, _about("the setting that holds its port")] = ""
    password: Annotated[str, _about("the setting that holds its password")] = ""
    address: Annotated[str, _about("the setting that holds its address")] = ""
    path: Annotated[str, _about("pipe: its path in the server's folder")] = ""
    prompt: Annotated[
        str, _about("tcp: a pattern of what the console writes before each line, and is no part of it")
    ] = ""
    echo: Annotated[bool, _about("tcp: whether the console sends back each line that it is sent")] = False
    challenge: Annotated[
        str,
        _about("datagrams: the text that asks for a challenge; empty where the console wants none"),
    ] = ""
    challenged: Annotated[str, _about("datagrams: a pattern of the answer to that, with a group challenge")] = ""
    packet: Annotated[
        str,
        _about(
            "datagrams: a command as it is sent, with {password}, {challenge} and {line}; bytes as in a probe's `send`"
        ),
    ] = ""
    answer: Annotated[
        str, _about("datagrams: what an answer begins with, and is no part of it; bytes as in `packet`")
    ] = ""
    needs: Annotated[str, _about("an expression: the server opens this console only where it holds")] = ""
    asks: Annotated[str, _about("a pattern: it asks for the password")] = ""
    welcome: Annotated[str, _about("a pattern: the password was right")] = ""
    refused: Annotated[str, _about("a pattern: the password was wrong")] = ""


class Lobby(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """The public list of servers: where it answers, and how to find oneself in it."""

    url: Annotated[str, _about("its address; settings in braces")]
    items: Annotated[str, _about("where the list is in the answer")] = ""
    ours: Annotated[dict[str, str], _about("field = setting: how to find oneself in the list")] = field(
        default_factory=dict
    )
    shows: Annotated[dict[str, str], _about("field = setting: what the list shows of it")] = field(default_factory=dict)
    needs: Annotated[str, _about("an expression: it is asked only where it holds")] = ""
    within: Annotated[str, _about("how long it may take until it shows the server")] = "10s"


class Server(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How the server's process behaves, and what its log and console say."""

    process: Annotated[
        str, _about("A pattern of the command line by which the server's process is known, however it was started")
    ] = ""
    ready: Annotated[str, _about("a pattern of the log: the server is up")] = ""
    terminal: Annotated[
        bool, _about("whether it is started in a terminal, as it reads no console without one, or says nothing")
    ] = False
    before_stop: Annotated[
        tuple[ConsoleStep, ...], _about("console lines before it is stopped, in order: save first")
    ] = field(default=(), name="before-stop")
    hold: Annotated[
        tuple[ConsoleStep, ...],
        _about("console lines that save, and hold further saving, so that its files can be copied while it runs"),
    ] = ()
    resume: Annotated[tuple[ConsoleStep, ...], _about("console lines that let it save again after `hold`")] = ()
    stop: Annotated[str, _about("the console line that stops it")] = ""
    stop_again: Annotated[
        str, _about("after how long `stop` is sent once more, within the grace time; empty: it is sent once")
    ] = field(default="", name="stop-again")
    signals: Annotated[
        tuple[str, ...],
        _about(
            "the signals that stop it, one after the other, each with the grace time or with a time of its own: "
            '`["SIGINT 2s", "SIGINT"]` for one that wants two'
        ),
    ] = ("SIGTERM",)
    kill: Annotated[bool, _about("whether a stop may end in SIGKILL")] = False
    grace: Annotated[str, _about("how long a stop may take")] = "20s"
    start_within: Annotated[str, _about("how long a start may take")] = field(default="60s", name="start-within")
    watch: Annotated[str, _about("how long a server that is ready is watched")] = "5s"
    stdin_needs: Annotated[
        str, _about("an expression: the server reads its standard input only where it holds; empty: it does")
    ] = field(default="", name="stdin-needs")
    stdin_refuses: Annotated[
        str, _about("a pattern of an answer: the console may not do what it was told, so nothing can be read there")
    ] = field(default="", name="stdin-refuses")
    console_escapes: Annotated[
        bool, _about("whether a backslash before a quote makes it a letter, in a console line's quotes")
    ] = field(default=False, name="console-escapes")
    console_ends: Annotated[
        str, _about("the signs that end a command at the console, such as `;`; no value outside quotes may have them")
    ] = field(default="", name="console-ends")
    say: Annotated[str, _about("the console line that tells the players; {text} stands for the words")] = ""
    slots: Annotated[str, _about("the setting that says how many players the server takes")] = ""
    memory: Annotated[str, _about("the setting, a size, that says how much memory the server may take")] = ""
    cores: Annotated[str, _about("the setting, of type `cores`, that says which processor cores it may use")] = ""
    failures: Annotated[tuple[str, ...], _about("patterns of the log that mean a failed start")] = ()
    logs: Annotated[
        tuple[str, ...], _about("the logs in the server's folder, as patterns such as logs/*.log*; compressed ones too")
    ] = ()
    log_prefix: Annotated[
        str, _about("a pattern of what each line of those logs has before what the console shows, such as the time")
    ] = ""
    log_time: Annotated[str, _about("the form of the group time in joined and left, as for strftime")] = ""
    joined: Annotated[str, _about("a pattern of the log: somebody came, with groups name and id")] = ""
    left: Annotated[str, _about("a pattern of the log: somebody left")] = ""
    worlds: Annotated[tuple[str, ...], _about("folders that hold worlds, saved with a round where asked")] = ()
    console: Annotated[RemoteConsole | None, _about("a console on a port, or a named pipe")] = None
    port: Annotated[tuple[Port, ...], _about("the ports that the running server must own")] = ()
    lobby: Annotated[Lobby | None, _about("the public list of servers")] = None


class Action(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """Something that a running server does at once, at its console, and that changes no file."""

    send: Annotated[str, _about("the console line; {argument} stands for an argument as it is sent")]
    about: Annotated[str, _about("what it does")] = ""
    match: Annotated[str, _about("a pattern of the answer that shows that it was done")] = ""
    refused: Annotated[str, _about("a pattern of the answer that shows that it was not")] = ""
    asks: Annotated[bool, _about("whether a person is asked first, as it cannot be taken back")] = False
    argument: Annotated[
        dict[str, RecordField],
        _about("its arguments in order, each with all that a setting may say; one with a `default` may be left out"),
    ] = field(default_factory=dict)


class Rulebook(Model, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A whole rulebook."""

    rulebook: Annotated[About, _about("what it is")]
    file: Annotated[dict[str, File], _about("the server's files")] = field(default_factory=dict)
    setting: Annotated[dict[str, Setting], _about("its settings")] = field(default_factory=dict)
    list: Annotated[dict[str, ListOf], _about("its lists")] = field(default_factory=dict)
    kind: Annotated[dict[str, ItemKind], _about("kinds of ids and list entries")] = field(default_factory=dict)
    rule: Annotated[tuple[Rule, ...], _about("what must hold across them")] = ()
    records: Annotated[dict[str, RecordSet], _about("sets of records")] = field(default_factory=dict)
    roster: Annotated[dict[str, Roster], _about("records of people")] = field(default_factory=dict)
    ranks: Annotated[dict[str, Ranks], _about("which records are ranks, and how they decide who may do what")] = field(
        default_factory=dict
    )
    loot: Annotated[dict[str, Loot], _about("what players find, and how a game draws it")] = field(default_factory=dict)
    curve: Annotated[dict[str, Curve], _about("levels, and what they grant")] = field(default_factory=dict)
    query: Annotated[dict[str, Query], _about("questions whose answers hold values")] = field(default_factory=dict)
    action: Annotated[dict[str, Action], _about("what the server does at once, at its console")] = field(
        default_factory=dict
    )
    table: Annotated[dict[str, AdviceTable], _about("advice in rows")] = field(default_factory=dict)
    preset: Annotated[dict[str, Preset], _about("named sets of values")] = field(default_factory=dict)
    mods: Annotated[Mods | None, _about("how the game takes mods")] = None
    withdraw: Annotated[
        tuple[str, ...], _about("settings, lists, rules and presets of the layers beneath that this one does without")
    ] = ()
    server: Annotated[Server, _about("how its process behaves")] = field(default_factory=Server)

    @property
    def name(self) -> str:
        """The rulebook's name."""
        return self.rulebook.name


NO_RULEBOOK = Rulebook(rulebook=About(name="none", title="no rulebook"))
"""For a server whose game nobody has described: its files are still addressed, checked and edited."""
