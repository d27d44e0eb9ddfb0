"""Small changes of the code that make it wrong, each with the tests that should notice.

Picked by hand: a condition turned, a step dropped, off by one, the wrong file, a guard removed. ``old`` is in its file
exactly once. A mutation that no test can notice does not belong here: then the code that it changes does nothing.
"""

from __future__ import annotations

from typing import NamedTuple


class Mutation(NamedTuple):
    """One small change: the module below ``src/roundgate``, what is there, what takes its place, and the tests."""

    module: str
    old: str
    new: str
    tests: str


PROBES = "tests/core/test_probes.py"
RETENTION = "tests/host/test_retention.py"
SERVERS = "tests/core/test_dialects_of_servers.py"
CONSOLES = "tests/host/test_consoles.py"
PROCESS = "tests/host/test_process.py"
DRIVERS = "tests/host/test_drivers.py"
ACTIONS = "tests/cli/test_actions.py"
VALUES = "tests/core/test_values.py tests/property/test_values.py"
RULES = "tests/core/test_expressions.py"
SLATE = "tests/core/test_slate.py tests/core/test_operations.py"
TEXT = "tests/core/test_text.py tests/core/test_lines.py tests/core/test_edits.py"
SLIPS = "tests/core/test_slips.py"
LAYERS = "tests/core/test_layers.py"
API = "tests/test_api.py"
WORKSPACE = "tests/host/test_workspace.py"
COMPARE = "tests/cli/test_compare.py"
DRAFT = "tests/core/test_draft.py"
GUARDS = "tests/core/test_guards.py"
OPTIONS = "tests/host/test_options.py"
STORE = "tests/host/test_store.py tests/faults/test_state.py"
FILES = "tests/host/test_files.py"
SITE = "tests/host/test_site.py"
KEEPER = "tests/host/test_keeper.py"
ROUNDS = "tests/host/test_rounds.py"
SEEN = "tests/host/test_seen.py"
DOWN = "tests/faults/test_never_down.py"
KEPT = "tests/faults/test_edits_kept.py"
COMMANDS = "tests/cli/test_commands.py"
WORDS = "tests/cli/test_words_kept.py"
ANY = "tests/cli/test_set_in_files.py tests/cli/test_switch_and_rename.py"
HIDDEN = "tests/cli/test_hidden.py"
BOOKS = "tests/core/test_rulebook.py"
LANGUAGE = "tests/core/test_rulebook_language.py"
WHOLE = "tests/cli/test_whole_server.py"
COMPLETION = "tests/cli/test_completion.py"
RANKS = "tests/core/test_ranks.py"
LOOT = "tests/core/test_loot.py"
JOINED = "tests/core/test_joined_edits.py"
BACKUPS = "tests/cli/test_backups.py"
BACKGROUND = "tests/host/test_background.py"
WAYS = "tests/host/test_ways_of_running.py"
LOOT_CLI = "tests/cli/test_loot.py"
RANK_EDITS = "tests/core/test_rank_edits.py tests/cli/test_rank_changes.py"
RANK_CHECKS = (
    "tests/cli/test_rank_checks.py::test_right_ranks_say_nothing_and_the_running_server_says_the_same "
    "tests/cli/test_rank_checks.py::test_what_is_wrong_with_ranks_is_found_with_its_place"
)
RECORDS = "tests/core/test_records.py"
SHAPES = "tests/core/test_record_shapes.py"
ROSTERS = "tests/cli/test_people.py"
LIVE = "tests/faults/test_live_rounds.py"
PEOPLE = "tests/core/test_people.py"
CLUB = "tests/cli/test_people.py"

ARCHIVES = "tests/faults/test_archives.py"
INTRUDERS = "tests/faults/test_intruders.py"
UNREADY = "tests/faults/test_never_ready.py"
FIELDS = "tests/property/test_notice_fields.py"
BROKEN = "tests/property/test_broken_secrets.py"
TIMETABLE = "tests/host/test_timetable_books.py"
MUTATIONS = [
    Mutation(
        "host/notices/sending.py",
        "secrets.fill(webhook.body, fields_of(notice))",
        "secrets.fill(secrets.fill(webhook.body, fields_of(notice)))",
        FIELDS,
    ),
    Mutation("host/backups/archives.py", "if self.left < 0:", "if False:", ARCHIVES),
    Mutation("host/backups/archives.py", "file.read(_LONGEST_LINK + 1)", "file.read()", ARCHIVES),
    Mutation("host/backups/unpacking.py", "member.mode & PLAIN_MODE", "member.mode", ARCHIVES),
    Mutation(
        "host/backups/unpacking.py",
        "copy_counted(source, file, member.size,",
        "copy_counted(source, file, None,",
        ARCHIVES,
    ),
    Mutation("host/handles.py", "_READ = os.O_RDONLY | os.O_NOFOLLOW", "_READ = os.O_RDONLY", INTRUDERS),
    Mutation("host/asking/reader.py", "account_of(self.server.entry.user)", 'account_of("")', INTRUDERS),
    Mutation("host/asking/consent.py", 'consent_for(book) in ("", *entry.allow)', "True", INTRUDERS),
    Mutation("host/asking/commands.py", "if is_question:", "if False:", INTRUDERS),
    Mutation("host/rounds/stop.py", "_ways_of_unready(round) if never_ready else", "", UNREADY),
    Mutation("host/rounds/__main__.py", "if not is_wanted and not", "if False and not", UNREADY),
    Mutation("host/drivers/outside.py", "        self._tell_former_keeper()\n", "", UNREADY),
    Mutation("host/drivers/self_restarting.py", "        self._last = process\n", "", DRIVERS + " -k wrapper"),
    Mutation("core/secrets.py", "if not (sounds_secret(word[0]) or word[0] in names):", "if True:", BROKEN),
    Mutation("host/timetable/books.py", "if not _is_alive(owner)", "if True", TIMETABLE),
    Mutation("start.py", "and entry not in dropped]", "]", "tests/faults/test_hostile_files.py -k module"),
    Mutation("cli/demo.py", "if not (keep and is_done):", "if not keep:", "tests/cli/test_demo_ended.py"),
    Mutation("host/keeper/interpreter.py", 'os.environ.get(_MASK, "")', '""', PROCESS + " -k umask"),
    # --- values ---
    Mutation("core/values/numbers.py", "if stored < least:", "if stored <= least:", VALUES),
    Mutation("core/values/numbers.py", "if stored > most:", "if stored >= most:", VALUES),
    Mutation("core/values/numbers.py", "if (stored - base) % step:", "if (stored - base) // step < 0:", VALUES),
    Mutation("core/values/numbers.py", "if not 1 <= port <= 65535:", "if not 1 <= port <= 65536:", VALUES),
    Mutation("core/values/numbers.py", "or not 1 < number <= 100:", "or not 0 < number <= 100:", VALUES),
    Mutation(
        "core/values/numbers.py",
        'return Decimal(100) if spec.stored == "fraction"',
        'return Decimal(100) if spec.stored != "fraction"',
        VALUES,
    ),
    Mutation("core/values/units.py", '"minutes": Decimal(60),', '"minutes": Decimal(100),', VALUES),
    Mutation("core/values/units.py", "if stored != stored.to_integral_value():", "if False:", VALUES),
    Mutation("core/values/units.py", "name: Decimal(1024) ** power", "name: Decimal(1000) ** power", VALUES),
    Mutation("core/values/units.py", "return Decimal(0) - total if negative else total", "return total", VALUES),
    Mutation("core/values/units.py", "return plain(units) + spec.suffix", "return plain(units)", VALUES),
    Mutation("core/values/units.py", "if _TIME.fullmatch(stored):", "if False:", VALUES),
    Mutation("core/values/texts.py", "if fold(word) == fold(stored):", "if stored.lower() in spec.spelling:", VALUES),
    Mutation("core/values/texts.py", "if len(text) > most:", "if len(text) >= most:", VALUES),
    Mutation("core/values/texts.py", "if len(text) < least:", "if len(text) <= least:", VALUES),
    Mutation("core/values/texts.py", 'if "\\n" in text and not spec.line_break:', "if False:", VALUES),
    Mutation("core/values/__init__.py", "typed if KINDS[spec.type].verbatim else typed.strip()", "typed", VALUES),
    Mutation(
        "core/values/texts.py",
        "if lowered in _NO or lowered == spec.spelling[1].lower():",
        "if lowered in _NO:",
        VALUES,
    ),
    Mutation("core/values/units.py", '"h": "hours"', '"h": "minutes"', VALUES),
    Mutation("core/values/numbers.py", 'text.replace(",", ".", 1)', "text", VALUES),
    # --- the rule language ---
    Mutation(
        "core/rulebook/reading.py",
        "if not findings and (checked or _leads_nowhere(book)):",
        "if not findings and checked:",
        "tests/cli/test_codes.py -k rulebook",
    ),
    Mutation(
        "host/checking.py",
        "for finding in broken.problem.findings]",
        "for finding in ()]",
        "tests/cli/test_codes.py -k rulebook",
    ),
    Mutation(
        "core/checks/rules.py",
        "or not spec.fixed_by or spec.fixed_by in changed:",
        "or not spec.fixed_by:",
        ROUNDS + " -k new_world",
    ),
    Mutation("core/rulebook/expressions.py", '"<=": operator.le,', '"<=": operator.lt,', RULES),
    Mutation(
        "core/rulebook/expressions.py",
        'return ("not", tree) if negations % 2 else tree',
        'return ("not", tree) if negations else tree',
        RULES,
    ),
    Mutation(
        "core/rulebook/expressions.py",
        'raise ExpressionProblem("it is nested too deeply")\n        tree = self.both()',
        "pass\n        tree = self.both()",
        RULES,
    ),
    Mutation(
        "core/rulebook/expressions.py",
        'raise ExpressionProblem("it is nested too deeply")\n        tree = ("arithmetic"',
        'pass\n        tree = ("arithmetic"',
        RULES,
    ),
    Mutation(
        "core/rulebook/expressions.py",
        'tree = ("and", tree, self.negated())',
        'tree = ("or", tree, self.negated())',
        RULES,
    ),
    Mutation("core/rulebook/conditions.py", "holds = False\n", "holds = True\n", RULES),
    Mutation(
        "core/checks/rules.py",
        "if is_unreadable(change.before, spec):",
        "if False:",
        "tests/cli/test_whole_server.py -k world_is_made",
    ),
    Mutation(
        "core/checks/rules.py",
        "for name in names if name in settings):\n                continue",
        "for name in names if name in settings):\n                pass",
        "tests/cli/test_advice_followed.py -k rule",
    ),
    # --- the slate and its operations ---
    Mutation(
        "core/slate.py",
        "shifts = shifts or any(operation.shifts(file)",
        "shifts = False and any(operation.shifts(file)",
        SLATE,
    ),
    Mutation("core/slate.py", '_NEW_FILES.get(format_name, b"")', 'b""', WORDS),
    Mutation("core/operations/values.py", "held = old.value_when_slated\n", "pass\n", SLATE),
    Mutation("core/operations/values.py", "if old.shifts(self.file)), default=0)", "if False), default=0)", SLATE),
    Mutation("core/operations/values.py", "(old.file, old.key) == (self.file, self.key)", "old.key == self.key", SLATE),
    Mutation("core/operations/values.py", 'return self.file == file and self.key.endswith("]")', "return False", SLATE),
    Mutation("core/operations/values.py", "return self.value_when_slated != before", "return False", SLATE),
    Mutation("core/operations/values.py", "on_copy=self.here_only)", "on_copy=False)", ANY),
    Mutation("core/operations/lists.py", "min(self.to, len(items) - 1)", "self.to", SLATE),
    Mutation("core/operations/lists.py", "if self.item in items and self.at is None:", "if self.item in items:", SLATE),
    Mutation(
        "core/operations/lists.py",
        "if is_secret:\n            return count",
        "if False:\n            return count",
        SLATE,
    ),
    Mutation("core/operations/names.py", "can_be_live = False", "can_be_live = True", ANY),
    Mutation("core/operations/names.py", "if (here is not None) != self.on:", "if (here is not None) == self.on:", ANY),
    Mutation("core/operations/names.py", "if not is_done:", "if True:", SLATE),
    Mutation(
        "core/operations/repairs.py",
        "return list(waiting) if self in waiting else [*waiting, self]",
        "return [*waiting, self]",
        SLATE,
    ),
    Mutation("core/operations/registry.py", "or version > kind.version:", "or version < kind.version:", SLATE),
    Mutation(
        "core/rescue.py",
        "if before.get(key) != after.get(key) and (file.path, key) not in taken:",
        "if before.get(key) != after.get(key):",
        SLATE,
    ),
    Mutation("core/rescue.py", 'if file.rewritten != "at-stop" or', 'if file.rewritten == "at-stop" or', SLATE),
    Mutation(
        "core/operations/base.py", "return not self.after_others and self.operation", "return self.operation", SLATE
    ),
    # --- layers, reviews and secrets ---
    Mutation(
        "core/layers.py",
        "for source in (known.asked, known.live, known.world):",
        "for source in (known.world, known.live, known.asked):",
        LAYERS,
    ),
    Mutation(
        "core/layers.py",
        "and value_of(disk, spec) != value_of(running, spec):",
        "and disk != running:",
        LAYERS,
    ),
    Mutation("core/review.py", "and change.operation.can_be_live", "", LAYERS),
    Mutation("core/review.py", 'return "(set, hidden)"\n    lines', "pass\n    lines", LAYERS),
    Mutation(
        "core/secrets.py",
        'if not is_open and (sounds_secret(found["name"]) or found["name"] in names):',
        'if found["name"] in names:',
        HIDDEN,
    ),
    Mutation(
        "core/checks/lists.py",
        "if spec.most is not None and count > spec.most:",
        "if spec.most is not None and count > spec.most + 1:",
        LAYERS,
    ),
    Mutation("core/checks/lists.py", "if count < spec.least:", "if count < spec.least - 1:", LAYERS),
    Mutation(
        "core/checks/values.py",
        'or entry.kind != "text" or',
        'or entry.kind == "text" or',
        LAYERS,
    ),
    Mutation("core/typed.py", "if not records and isinstance(value, dict | list):", "if False:", WORDS),
    Mutation("core/typed.py", "if not kinds or 0 < records < len(kinds):", "if True:", WORDS),
    Mutation("core/differences.py", "if end - start == 1:", "if end - start == 2:", "tests/core/test_differences.py"),
    Mutation(
        "core/advice.py",
        "if not spec.advice or not spec.advice_when:",
        "if True:",
        GUARDS,
    ),
    Mutation("core/advice.py", "seen[name] = Decimal(given)", "pass", COMMANDS + " tests/core/test_rulebook.py"),
    Mutation(
        "core/checks/standalone.py", "if wrong and guess not in _SURE:", "if False:", "tests/cli/test_check_files.py"
    ),
    # --- texts and formats ---
    Mutation(
        "core/text.py",
        "return self.bom + self.body.encode(self.encoding)",
        "return self.body.encode(self.encoding)",
        TEXT,
    ),
    Mutation(
        "core/formats/__init__.py",
        "if not kind.confirms(changed, edit.expected):",
        "if False:",
        GUARDS,
    ),
    Mutation("core/formats/lines/document.py", 'if len(self.rows) == 1 and "=" not in tail:', "if False:", GUARDS),
    Mutation(
        "core/formats/lines/document.py",
        "expected.insert(to, expected.pop(start))",
        "expected.insert(start, expected.pop(to))",
        TEXT + " tests/property/test_formats.py",
    ),
    Mutation(
        "core/formats/launch/reader.py",
        "if _FLAG.fullmatch(value) or _PAIR.fullmatch(value):",
        "if _FLAG.fullmatch(value):",
        "tests/core/test_edits.py",
    ),
    Mutation(
        "core/formats/ini/problems.py",
        "return len(sections) < headings",
        "return False",
        "tests/core/test_plain_lines.py",
    ),
    Mutation(
        "core/formats/directives/problems.py", "but=_SET_VERBS", "but=frozenset()", "tests/core/test_plain_lines.py"
    ),
    Mutation(
        "core/formats/launch/document.py",
        "if len(places) > 1:",
        "if len(places) > 2:",
        "tests/core/test_scripts_run.py",
    ),
    Mutation(
        "core/formats/launch/document.py",
        "and not is_list and self.splits(name):",
        "and not is_list and False:",
        "tests/core/test_scripts_run.py",
    ),
    Mutation(
        "core/formats/launch/reader.py",
        'elif used.search(_QUOTED.sub("", raw)):',
        "elif used.search(raw):",
        GUARDS,
    ),
    Mutation(
        "core/formats/launch/reader.py",
        "*(line for line, blank in lines if line != blank)]",
        "]",
        GUARDS,
    ),
    Mutation("core/formats/yaml/lost_colons.py", "is_word = here.has_map and", "is_word =", SLIPS),
    Mutation("core/formats/yaml/lost_colons.py", 'or not found["gap"]', "", SLIPS),
    Mutation("core/formats/yaml/document.py", 'format_name = "yaml"', 'format_name = "json"', SLIPS),
    Mutation("core/formats/directives/problems.py", "if opened < 0 and closes and not opens:", "if False:", SLIPS),
    Mutation(
        "core/formats/shared/slips.py",
        'crooked += not body[start:at].strip(" \\t") and column != opened',
        "crooked += 0",
        SLIPS,
    ),
    Mutation(
        "core/formats/shared/single_slip.py",
        "return False  # a text without its end swallows",
        "pass  # a text without its end swallows",
        SLIPS,
    ),
    Mutation(
        "core/repairs.py",
        "if _errors(left) > _errors(problems) or",
        "if",
        GUARDS,
    ),
    Mutation("core/repairs.py", "if min(cut.start for cut in problem.repair) > end:", "if True:", GUARDS),
    Mutation(
        "core/formats/places.py",
        "same = [name for name, ending in names.items() if ending.lower() == last.lower()]",
        "same = []",
        GUARDS,
    ),
    # --- files on the disk ---
    Mutation(
        "host/files.py", "os.fchmod(handle, mode)", "pass", FILES + " " + ROUNDS + " -k 'rewind_puts or mode or files'"
    ),
    Mutation("host/files.py", "if mode & 0o111 == 0:", "if True:", FILES),
    Mutation("host/files.py", "if expected is not None and path in expected and", "if False and", FILES),
    Mutation("host/cache.py", "if entry is not None and entry.mark == mark:", "if entry is not None:", SITE),
    Mutation(
        "host/site.py",
        "chosen += [name for name in _named(site, part) if name not in chosen]",
        "chosen += list(_named(site, part))",
        SITE + " " + COMMANDS,
    ),
    Mutation("host/site.py", 'if part == "@all":', 'if part == "@any":', SITE + " " + COMMANDS),
    # --- the store ---
    Mutation(
        "host/store.py",
        "DELETE FROM slate WHERE id=? AND round IS NULL",
        "DELETE FROM slate WHERE id=?",
        "tests/host/test_store.py",
    ),
    Mutation(
        "host/store.py",
        "UPDATE slate SET round=? WHERE id=? AND round IS NULL",
        "UPDATE slate SET round=? WHERE id=?",
        "tests/host/test_store.py",
    ),
    Mutation("host/store.py", "if entry.operation.sets_value:", "if False:", ROUNDS + " -k 'reset_by or two_changes'"),
    Mutation(
        "host/store.py",
        "entry.round is None and entry.id > mine[0].id]",
        "entry.round is None and entry.id > mine[0].id and False]",
        "tests/host/test_store.py",
    ),
    # --- the keeper ---
    Mutation(
        "host/keeper/child.py",
        "if self.crashes >= len(PAUSES):",
        "if self.crashes > len(PAUSES):",
        KEEPER + " -k crash",
    ),
    Mutation(
        "host/keeper/child.py",
        "if first_unseen(text):",
        "if False:",
        KEEPER + " -k takes_one_line",
    ),
    Mutation(
        "host/keeper/log.py",
        "for number in range(KEPT, 0, -1):",
        "for number in range(KEPT - 1, 0, -1):",
        KEEPER + " -k old_logs",
    ),
    Mutation("host/keeper/log.py", "if self.size > LARGEST:", "if self.size > 2 * LARGEST:", KEEPER + " -k log"),
    Mutation(
        "host/keeper/clients.py",
        "if all(isinstance(message, dict) for message in messages) else None",
        "",
        KEEPER + " -k nothing_that",
    ),
    # --- rounds ---
    Mutation("host/rounds/snapshot/save.py", "if digest(data) != mark:", "if False:", OPTIONS + " -k damaged"),
    Mutation("host/rounds/write.py", "if wrong:\n", "if False:\n", OPTIONS + " -k wrong"),
    Mutation(
        "host/rounds/write.py",
        "put_back(round, {path: saved[path] for path in written if path in saved}, digests)",
        "put_back(round, dict(saved), digests)",
        KEPT + " " + ROUNDS + " -k 'rewind or undone or kept'",
    ),
    Mutation(
        "host/rounds/prove.py",
        'raise NotProven(f"it owns port {port} on {where}, not on {address}", round.evidence())',
        "return",
        ROUNDS + " -k bind",
    ),
    Mutation(
        "host/rounds/prove.py",
        'if event["event"] == "exit":\n            raise _ended_soon',
        "if False:\n            raise _ended_soon",
        ROUNDS + " -k start_that_fails",
    ),
    Mutation("host/rounds/prove.py", "if not fits(answer):", "if False:", SEEN + " -k probe"),
    Mutation("host/rounds/bring_up.py", "if not proof.read and proof.unread:", "if False:", SEEN),
    Mutation("host/rounds/bring_up.py", "if round.options.keep:", "if False:", OPTIONS + " -k keep"),
    Mutation(
        "host/rounds/engine.py",
        "return [entry for entry in waiting if entry.operation.waits_for_stop]",
        "return waiting",
        OPTIONS + " -k slate_alone",
    ),
    Mutation(
        "host/rounds/engine.py", "if round.plan.needs_down and state.runs:", "if False:", KEEPER + " -k takes_over"
    ),
    Mutation("host/rounds/announce.py", "if not round.options.silent:", "if True:", OPTIONS + " -k silent"),
    Mutation(
        "host/rounds/announce.py",
        "while (players := round.driver.state().players) > 0:",
        "while False:",
        ROUNDS + " -k aboard",
    ),
    Mutation(
        "host/rounds/stop.py", "if round.server.may_kill or round.options.kill:", "if True:", OPTIONS + " -k kill"
    ),
    Mutation("host/rounds/stop.py", "if not gone:\n", "if False:\n", OPTIONS + " -k behind"),
    Mutation("host/written.py", "!= mark\n", "== mark\n", ROUNDS + " -k reset_by"),
    Mutation(
        "host/rounds/engine.py",
        'round.plan.ends_up == "as-it-was" and not round.options.start:',
        'round.plan.ends_up == "as-it-was":',
        OPTIONS + " -k brings",
    ),
    Mutation("cli/apply.py", "    if live:\n", "    if False:\n", OPTIONS + " -k live"),
    # --- commands ---
    Mutation(
        "cli/rounding.py", "today[2] + 1, wanted.tm_hour", "today[2], wanted.tm_hour", OPTIONS + " -k time_of_day"
    ),
    Mutation("cli/rounding.py", "if not 0 <= found <= _LONGEST_WAIT:", "if found < 0:", OPTIONS + " -k wait"),
    Mutation(
        "cli/call.py", "or (server.folder / word).is_file() for server in servers)", "for server in servers)", ANY
    ),
    Mutation("cli/edit.py", "if proposal.findings and not despite_errors:", "if False:", COMMANDS),
    Mutation(
        "api/key_changes.py",
        "if found is None and not (self.options.new or self.options.here_only) and",
        "if False and",
        WORDS,
    ),
    Mutation("api/list_changes.py", 'if kinds and all(kind == "map" for kind in kinds):', "if False:", WORDS),
    Mutation(
        "api/list_changes.py",
        "None if at is None else _number(at) + offset",
        "None if at is None else _number(at)",
        WORDS,
    ),
    Mutation("api/list_changes.py", "if without_tail(held) == item), None)", "if held == item), None)", ANY),
    Mutation(
        "cli/screen/report.py",
        'for level in ("error", "warning", "note") if',
        'for level in ("note", "warning", "error") if',
        "tests/cli/test_check_files.py",
    ),
    # --- one workspace, comparing, drafting ---
    Mutation(
        "host/files.py", "if time.time_ns() - found.st_mtime_ns < tick:", "if False:", WORKSPACE + " -k same_tick"
    ),
    Mutation("host/workspace.py", "return self if is_same else fresh", "return self", API + " -k one_moment"),
    Mutation("host/workspace.py", "if key not in self._outcomes:", "if True:", WORKSPACE),
    Mutation("api/server.py", "self._workspace = self._workspace.with_slate(", "self._workspace.with_slate(", API),
    Mutation("api/comparing.py", "same=len(plain) < 2)\n\n\ndef _stored", "same=False)\n\n\ndef _stored", COMPARE),
    Mutation("api/comparing.py", "HIDDEN if entry.path in hidden else entry.value or", "entry.value or", COMPARE),
    Mutation("api/presets.py", "if read.rulebook in games:", "if True:", COMPARE + " -k another_game"),
    Mutation("api/comparing.py", "or values.is_hidden(spec) or spec.type", "or spec.type", COMPARE + " -k saved"),
    Mutation(
        "cli/settings.py",
        "if stored is not None and values.read(stored, spec) !=",
        "if values.read(str(stored), spec) !=",
        COMMANDS + " -k changed",
    ),
    Mutation("core/files.py", 'format(value.normalize(), "f")', "str(value)", LAYERS),
    Mutation(
        "core/formats/ini/reader.py",
        'self._without_note(off["value"]), off',
        'off["value"], off',
        "tests/core/test_edits.py",
    ),
    Mutation("core/draft/guesses.py", "    _keep_what_fits(fields, unsure, value)\n", "", DRAFT),
    Mutation("core/draft/guesses.py", "if hints.default is None and _ON_WISH.search(comment):", "if False:", DRAFT),
    Mutation("core/draft/comments.py", "str(entry.path[-1]).lower() not in LABELS", "True", DRAFT),
    Mutation(
        "core/draft/hints.py",
        "least < most:\n                return least, most",
        "True:\n                return least, most",
        DRAFT,
    ),
    Mutation("core/draft/writer.py", 'and setting.guess.fields["type"] != "secret":', "and True:", DRAFT),
    # --- the rulebook language ---
    Mutation(
        "core/values/__init__.py", "return text if is_special else _with_affixes(text, spec)", "return text", BOOKS
    ),
    Mutation("core/values/several.py", "if spec.unique and entry in entries[:number]:", "if False:", VALUES),
    Mutation("core/values/several.py", "if len(entries) > most:", "if len(entries) > most + 1:", VALUES),
    Mutation("core/values/parts.py", "if not 0 <= number <= spec.scale:", "if not 0 <= number <= 255:", VALUES),
    Mutation("core/values/machine.py", "if mask >> core & 1", "if mask >> core", VALUES),
    Mutation("core/values/moments.py", "found.strftime(form) == stored", "stored", VALUES),
    Mutation("core/rulebook/raw_books.py", "if layer in above:", "if layer in above[1:]:", LANGUAGE),
    Mutation(
        "core/rulebook/raw_books.py", "if all(beneath.file != layer.file for layer in found):", "if True:", LANGUAGE
    ),
    Mutation(
        "core/rulebook/expansion.py", "default = spec.defaults[number] if", "default = spec.defaults[0] if", LANGUAGE
    ),
    Mutation(
        "core/rulebook/expansion.py", 'own = {plain: [f"{plain}@{world}"] if at', "own = {plain: names if at", LANGUAGE
    ),
    Mutation("core/rulebook/expansion.py", 'name=f"{rule.name}@{number}"', "name=rule.name", LANGUAGE),
    Mutation("core/facts.py", "version_parts(version) >= version_parts(spec.until)", "False", LANGUAGE),
    Mutation(
        "core/facts.py", "return tuple(numbers)", "return tuple(map(int, str(numbers[0] if numbers else 0)))", LANGUAGE
    ),
    Mutation(
        "core/checks/places.py", "if second == wanted or (", "if (second == wanted and entry is None) or (", LANGUAGE
    ),
    Mutation(
        "core/checks/places.py",
        'is not False:\n        return\n    cause = f"There',
        ':\n        return\n    cause = f"There',
        LANGUAGE,
    ),
    Mutation("core/checks/mods.py", "if need not in names[:number]:", "if need not in names:", LANGUAGE),
    Mutation("core/advice.py", "if row.given <= Decimal(given)", "if row.given < Decimal(given)", LANGUAGE),
    Mutation(
        "core/patterns.py",
        "return regex.fullmatch(pattern, text, timeout=_SECONDS)",
        "return regex.fullmatch(pattern, text, timeout=20)",
        LANGUAGE,
    ),
    Mutation("core/files.py", "for name in reversed(above(book, spec.file)):", "for name in ():", LANGUAGE),
    Mutation(
        "core/files.py",
        'return (min if file.dialect.counts == "first" else max)(places)[1]',
        "return min(places)[1]",
        WHOLE + " -k includes",
    ),
    Mutation("core/slate.py", "return lines.encode() + _NEW_FILES", "return _NEW_FILES", WHOLE + " -k begins"),
    Mutation("core/operations/copies.py", "if target.document.text.body:", "if False:", SLATE),
    Mutation("core/review.py", "if spec and spec.inverted:", "if False:", WHOLE + " -k groups"),
    Mutation("api/key_changes.py", "        self._refuse_absent(target.name, spec)\n", "", WHOLE + " -k edition"),
    Mutation(
        "api/key_changes.py", 'if file.owner == "game" and own == file.path:', "if False:", WHOLE + " -k overwrites"
    ),
    Mutation("api/mod_changes.py", "or (holder.folder / to).exists():", "or False:", WHOLE + " -k mod"),
    Mutation("api/presets.py", "if files.counting(name) !=", "if files.counting(name) ==", WHOLE + " -k needs_a_mode"),
    Mutation("host/rounds/prove.py", "and not overriding(spec, files.names)", "", WHOLE + " -k typed"),
    Mutation("host/rounds/prove.py", "and files.is_in_use(name)", "", WHOLE + " -k worlds_file"),
    Mutation(
        "host/facts.py", "return entry.version or (", "return entry.version and (", WHOLE + " -k where_the_rulebook"
    ),
    Mutation("host/files.py", "        _make_folders(os.path.dirname(target))\n", "", WHOLE + " -k comes_with"),
    Mutation("cli/complete.py", "return at.isdecimal() and", "return False and", COMPLETION),
    Mutation(
        "cli/complete.py",
        "return call.fitting(_built_in(call, name), _mods(call, name))",
        "return call.fitting(_built_in(call, name))",
        COMPLETION,
    ),
    # --- records and people ---
    Mutation("core/records/sets.py", "return by_key or [record", "return [record", RECORDS),
    Mutation(
        "core/records/shapes/tree.py",
        "is_nested = any(len(path) > 2 for path in inner)",
        "is_nested = False",
        LOOT,
    ),
    Mutation(
        "core/operations/records.py", "if any(record.key == self.record for record in records):", "if False:", RECORDS
    ),
    Mutation("core/operations/records.py", "if len(records) != 1:", "if not records:", RECORDS),
    Mutation("core/records/shapes/tree.py", "if kept != [item for item in new if item in old]", "if False", RECORDS),
    Mutation("core/records/shapes/tree.py", "if entry.value == old:", "if True:", RECORDS),
    Mutation(
        "core/operations/records.py",
        "held = same[0].held_before if same else self.held_before",
        "held = self.held_before",
        "tests/cli/test_records.py",
    ),
    Mutation("core/checks/records.py", "if described.needed and field not in record.fields:", "if False:", RECORDS),
    Mutation("core/checks/records.py", "entry.value in keys[described.to]:", "True:", RECORDS),
    Mutation(
        "core/checks/records.py",
        "looked_at |= {name for to in set(looked_at)",
        "looked_at & {name for to in set(looked_at)",
        "tests/cli/test_records.py -k others_name",
    ),
    Mutation(
        "core/checks/records.py",
        "known = list(identities(keys, kind)) if kind is not None and kind.pattern else",
        "known =",
        CLUB + " -k wrong_form",
    ),
    Mutation("core/people/ids.py", "if len(exact) == 1:", "if exact:", PEOPLE),
    Mutation("core/people/ids.py", "return found[0] if len(found) == 1 else", "return found[0] if found else", PEOPLE),
    Mutation("core/people/seen.py", 'if follows in ("*", "?", "{") else part', "if False else part", PEOPLE),
    Mutation("core/people/seen.py", "person.here_since = 0.0\n", "pass\n", PEOPLE),
    Mutation("host/people/log_files.py", 'cut = data.rfind(b"\\n") + 1', "cut = len(data)", CLUB + " -k every_kind"),
    Mutation(
        "host/fleet/clusters.py", "with suppress(Trouble):", "if True:", "tests/cli/test_broken_rulebooks.py -k hides"
    ),
    Mutation(
        "cli/call.py",
        "if server.name not in self._left_out:",
        "if True:",
        "tests/cli/test_broken_rulebooks.py -k hides",
    ),
    Mutation("api/people.py", "if present is None:", "if True:", CLUB + " -k book_wants"),
    Mutation("api/people.py", "*(unwanted if exact else ())", "*unwanted", CLUB + " -k book_wants"),
    Mutation(
        "api/record_changes.py",
        "made.append(FollowRename(",
        "repr(FollowRename(",
        "tests/cli/test_records.py -k renamed",
    ),
    # people, live rounds and the shapes of records
    Mutation("host/keeper/loop.py", "if self.selector.get_map().get(key.fd) is key:", "if True:", KEEPER),
    Mutation("core/people/ids.py", "if kind.check and not _is_whole(text, kind):", "if False:", PEOPLE),
    Mutation("core/people/ids.py", "int(digit) * (1 + at % 2)", "int(digit) * (2 - at % 2)", PEOPLE),
    Mutation("core/people/ids.py", '{"", kind.suffix}', '{""}', PEOPLE),
    Mutation("core/people/ids.py", 'return bare.lower() if kind.case == "any" else bare', "return bare", PEOPLE),
    Mutation(
        "core/people/until.py",
        "date.fromisoformat(end[:10]) <= today",
        "date.fromisoformat(end[:10]) < today",
        "tests/core/test_people.py",
    ),
    Mutation("core/people/book.py", "by_name = [key", "by_name = [] and [key", ROSTERS),
    Mutation(
        "core/people/rosters.py",
        'end = end_on(people.people[key], standing.roster, places) if key else ""',
        'end = ""',
        ROSTERS,
    ),
    Mutation("api/admins.py", "if gone and not left:", "if False:", ROSTERS),
    Mutation("api/admins.py", "if any(standing.id in mine for standing in gone):", "if False:", ROSTERS),
    Mutation(
        "api/whom.py",
        'if len(found) > 1:\n        shown = ", ".join(f"{people',
        'if False:\n        shown = ", ".join(f"{people',
        ROSTERS,
    ),
    Mutation("api/people.py", "elif old.pop(where, None) is None:", "else:", ROSTERS),
    Mutation("core/records/live.py", "is_there=not is_gone", "is_there=True", LIVE),
    Mutation("host/rounds/reading.py", "if is_there != told.is_there:", "if False:", LIVE),
    Mutation("host/rounds/live.py", "if not lost and not outcome.refused:", "if True:", LIVE),
    Mutation(
        "host/rounds/live.py",
        "            untold = _say(round, commands_of(back, reads_file=False))\n",
        "",
        LIVE,
    ),
    Mutation("host/rounds/live.py", "            undo(round, saved)\n", "", LIVE),
    Mutation(
        "host/rounds/engine.py",
        "[entry for entry in waiting if can_be_live(entry.operation, round.server.book)]",
        "waiting",
        LIVE,
    ),
    Mutation("core/records/shapes/parts.py", "if text:  # between", "if True:  # between", SHAPES),
    Mutation("core/records/shapes/forms.py", "if given != names[: len(given)] or any(", "if any(", SHAPES),
    Mutation(
        "core/records/shapes/texts.py",
        'return "code" if editor.format.name == "directives" else None',
        "return None",
        SHAPES,
    ),
    Mutation("core/records/sets.py", "if known is document and same is spec:", "if same is spec:", RECORDS),
    Mutation("core/checks/records.py", "value <= before[1]:", "value < before[1]:", RECORDS),
    Mutation("core/checks/records.py", "if not spec.used:", "if spec.used:", RECORDS),
    Mutation(
        "core/operations/records.py",
        "if (bool(found) and self.on) or (not found and not self.on and off is not None):",
        "if False:",
        RECORDS,
    ),
    Mutation("core/rulebook/expressions.py", "ChainMap(item, values)", "ChainMap(values, item)", RULES),
    Mutation("core/ranks/rights.py", "allowed & open_bits & ~denied", "allowed & open_bits", RANKS),
    Mutation(
        "core/ranks/rights.py",
        "            for exception in entry.but:\n                known &= ~self._range(exception)\n",
        "",
        RANKS,
    ),
    Mutation(
        "core/ranks/rights.py",
        "tiers.setdefault(-link.power if by_power",
        "tiers.setdefault(link.power if by_power",
        RANKS,
    ),
    Mutation(
        "core/ranks/deciding.py",
        "last_link = [link for link, _ in about if link.steps == nearest][-1]",
        "last_link = [link for link, _ in about if link.steps == nearest][0]",
        RANKS,
    ),
    Mutation("core/ranks/reading.py", "entry.start, RankEntry(name, is_on", "entry.start, RankEntry(name, True", RANKS),
    Mutation("core/ranks/reading.py", "(ordered[at - 1],) if at else ()", "()", RANKS),
    Mutation("core/ranks/impact.py", "same_ranks[ranks] = people", "same_ranks[ranks] = None", RANKS),
    Mutation("core/ranks/matrix.py", '(own == "0") * 2', '(own == "1") * 2', RANKS),
    Mutation("core/ranks/expected.py", "if len(found) == 1 else None", "if found else None", RANKS),
    Mutation(
        "api/rank_changes.py",
        "        if counter:\n",
        "        if False:\n",
        RANK_EDITS,
    ),
    Mutation(
        "api/rank_changes.py",
        "if rank in self._records(name):\n                made.append(RenameRecord(",
        "if False:\n                made.append(RenameRecord(",
        RANK_EDITS,
    ),
    Mutation("api/rank_changes.py", "if alone and not to:", "if False:", RANK_EDITS),
    Mutation(
        "core/checks/rank_entries.py",
        "not any(flags & bit and not flags & needed for flags in above)",
        "True",
        RANK_CHECKS,
    ),
    Mutation("core/checks/rank_entries.py", "& held[group.name] & danger", "& danger", RANK_CHECKS),
    Mutation("core/checks/ranks.py", "if other != name and group.power", "if group.power", RANK_CHECKS),
    Mutation("core/formats/ini/sections.py", "if before != name or row.is_heading:", "if not runs:", SHAPES),
    Mutation("core/records/shapes/tree.py", "return steps if is_nested else (field,)", "return steps", SHAPES),
    Mutation("core/records/rows.py", "document.has_doubles or any(", "any(", RECORDS),
    Mutation(
        "host/people/ranks.py",
        "if test.expectation in before and not test.is_met:",
        "if test.expectation in before:",
        RANK_EDITS,
    ),
    Mutation(
        "core/people/ids.py",
        "    if text.isalpha() and any(sign.isdigit() for sign in kind.example):\n        return []\n",
        "",
        "tests/cli/test_ranks.py",
    ),
    Mutation("core/probes.py", "len(answer) < probe.least or", "", PROBES),
    Mutation("core/probes.py", 'if live.order == "text":', "if False:", PROBES),
    Mutation("core/console_lines.py", "if quoted and '\"' in value:", "if False:", PROBES),
    Mutation("core/formats/directives/document.py", "at = min([at, *self._closing_starts])", "pass", SERVERS),
    Mutation("core/formats/ini/reader.py", "if not depth:", "if True:", SERVERS),
    Mutation(
        "core/formats/places.py", "while (entry := document.find((*home, len(found))))", "if (entry := None)", SERVERS
    ),
    Mutation("core/records/live.py", "if is_gone else values", "if False else values", "tests/core/test_told.py"),
    Mutation("host/consoles/packets.py", "if packet.number == command:", "if True:", CONSOLES),
    Mutation("host/consoles/datagrams.py", "if not data.startswith(head):", "if False:", CONSOLES),
    Mutation("host/rounds/stop.py", "        if way.again:\n", "        if False:\n", PROCESS),
    Mutation("host/rounds/stop.py", "float(parse_seconds(within)) if within else grace", "grace", PROCESS),
    Mutation("host/keeper/terminal.py", "signal.signal(getattr(signal, name), lambda", "(lambda", PROCESS),
    Mutation(
        "host/asking/ports.py",
        "            if fits(last):\n                return last\n",
        "            return last\n",
        PROCESS,
    ),
    Mutation("host/logs/tail.py", "_before(file, self.at) == self.seen", "True", DRIVERS),
    Mutation("api/actions.py", "if argument in given:", "if False:", ACTIONS),
    Mutation("core/loot/draws.py", "share = 1.0 / (most - least + 1)\n    so_far", "share = 0.5\n    so_far", LOOT),
    Mutation("core/loot/draws.py", "if 0 <= times - number <= others", "if True", LOOT),
    Mutation("core/loot/draws.py", "found[:, 1:, :] = values[:, :-1, :]", "found[:, :, :] = values", LOOT),
    Mutation(
        "core/loot/odds.py", "kept = 1.0 - node.missing if node.missing_of", "kept = 1.0 if node.missing_of", LOOT
    ),
    Mutation(
        "core/loot/odds.py",
        "total = max(sum(weights), node.whole)\n        if not",
        "total = sum(weights)\n        if not",
        LOOT,
    ),
    Mutation("core/loot/odds.py", "elif item.table and item.name in above:", "elif False:", LOOT),
    Mutation(
        "core/loot/reading.py", "if source.left_out and source.left_out_is ==", "if source.left_out and 'x' ==", LOOT
    ),
    Mutation("core/loot/reading.py", "count if most is None else min(count, most)", "count", LOOT),
    Mutation("core/loot/shape.py", "if node.missing >= 1 or", "if", LOOT_CLI),
    Mutation(
        "host/keeper/child.py", "if len(line) > select.PIPE_BUF:", "if False:", "tests/host/test_keeper.py -k parts"
    ),
    Mutation(
        "cli/main.py",
        "except (KeyboardInterrupt, typer.Abort):",
        "except KeyboardInterrupt:",
        "tests/cli/test_leaving.py",
    ),
    Mutation("cli/fleet/waves.py", "waiting.clear()", "pass", "tests/cli/test_waves.py -k called_off"),
    Mutation("cli/fleet/waves.py", "if is_called_off or (", "if (", "tests/cli/test_waves.py -k called_off"),
    Mutation("cli/main.py", " or _rulebook_mistake()", "", "tests/cli/test_broken_rulebooks.py"),
    Mutation(
        "host/checking.py",
        "return [*mistakes, *(_check_after(workspace) if after else _check_workspace(workspace))]",
        "return _check_after(workspace) if after else _check_workspace(workspace)",
        "tests/cli/test_broken_rulebooks.py",
    ),
    Mutation(
        "core/patterns.py",
        "        return re.compile(_NOTHING)",
        "        raise",
        "tests/cli/test_broken_rulebooks.py",
    ),
    Mutation(
        "host/backups/holding.py",
        "            signal.signal(number, unwind)",
        "            pass",
        "tests/cli/test_backups.py -k signal",
    ),
    Mutation(
        "host/people/log_files.py",
        "if _digest(last) == log.before:",
        "if True:",
        "tests/host/test_log_files.py",
    ),
    Mutation(
        "host/people/log_files.py",
        "mark = _digest(last)\n",
        "mark = _digest(last[1:])\n",
        "tests/host/test_log_files.py",
    ),
    Mutation(
        "host/people/log_files.py",
        "if own is not None and _is_done(part.path, part.about, own):",
        "if own is not None and is_packed(part.path):",
        "tests/host/test_log_files.py",
    ),
    Mutation(
        "core/loot/shifts.py", "key=lambda shift: (-shift.size[0],", "key=lambda shift: (shift.size[0],", LOOT_CLI
    ),
    Mutation(
        "core/curves/levels.py",
        "None if granted >= cost else first or level",
        "None if granted >= cost else level",
        LOOT_CLI,
    ),
    Mutation(
        "core/curves/making.py",
        "return [to_step(number, step, ROUND_HALF_UP)",
        "return [to_step(number, step, 'ROUND_DOWN')",
        LOOT_CLI,
    ),
    Mutation("core/values/relative.py", "if isinstance(value, values.Special):", "if False:", LOOT_CLI),
    Mutation("core/values/relative.py", "number * amount / 100 if match[3]", "number * amount if match[3]", LOOT_CLI),
    Mutation(
        "core/checks/rules.py",
        "if not all(name in book.records",
        "if all(name in book.records",
        "tests/core/test_lazy_formats.py",
    ),
    Mutation("core/records/shapes/tree.py", 'present in ("number", "bool", "text") and', "False and", LOOT_CLI),
    Mutation(
        "core/people/rosters.py",
        "others = of_others - of_people",
        "others = set() and of_people",
        "tests/cli/test_people.py",
    ),
    Mutation("host/files.py", "not any(_seems_unfinished(folder, path, text)", "not any(False", FILES),
    Mutation("host/keeper/loop.py", "while self._welcome():", "while False:", KEEPER),
    Mutation(
        "host/backups/archives.py",
        "elif copy_counted(source, None, member.size, told) != (member.size",
        "elif False and (member.size",
        BACKUPS,
    ),
    Mutation(
        "host/backups/archives.py",
        "if not parts or found.path.startswith",
        "if False and found.path.startswith",
        BACKUPS,
    ),
    Mutation("host/backups/unpacking.py", "if leads_outside(path, named):", "if False:", ARCHIVES),
    Mutation("host/backups/making.py", "path.unlink(missing_ok=True)\n        raise", "raise", BACKUPS),
    Mutation("host/backups/making.py", "if leads_outside(name, links):", "if False:", BACKUPS),
    Mutation("host/backups/unpacking.py", "if got != (member.size, member.digest):", "if False:", BACKUPS),
    Mutation("host/backups/manifest.py", "if at and (is_old or is_beyond):", "if at and is_beyond:", BACKUPS),
    Mutation("core/fleet/ports.py", "if overlap(one.address, other.address):", "if True:", "tests/core/test_fleet.py"),
    Mutation(
        "core/fleet/ports.py",
        "promise.port - least + base",
        "promise.port - least + base + 1",
        "tests/core/test_fleet.py",
    ),
    Mutation("core/fleet/cores.py", "for core in machine[spare:]", "for core in machine", "tests/core/test_fleet.py"),
    Mutation(
        "host/fleet/clusters.py",
        "if best == mine and counted[mine] > 1 and not is_tie:",
        "if False:",
        "tests/cli/test_fit.py",
    ),
    Mutation("host/fleet/clusters.py", "if is_tie:  #", "if False:  #", "tests/cli/test_fit.py"),
    Mutation("host/fleet/clashes.py", "if same_cores and", "if", "tests/cli/test_fit.py"),
    Mutation("host/fleet/clashes.py", "if identity_of(finding) not in known]", "]", "tests/cli/test_fit.py"),
    Mutation(
        "host/keeper/loop.py",
        "if number is not None and number not in self.recoveries and",
        "if number is not None and not self.recoveries and",
        "tests/faults/test_crashes.py",
    ),
    Mutation("host/keeper/loop.py", "any(not recovery.let_go for", "any(True for", "tests/faults/test_crashes.py"),
    Mutation(
        "core/review.py", " or all(line in kept for line in range(first, last + 1))", "", "tests/core/test_slate.py"
    ),
    Mutation(
        "core/secrets.py", "if is_switch(entry.value) and", "if is_switch(entry.value) or", "tests/core/test_slate.py"
    ),
    Mutation("core/values/__init__.py", "typed = _bare(typed, spec)", "pass", LANGUAGE),
    Mutation(
        "host/places.py", "if os.path.samestat(os.stat(home), os.lstat(known)):", "if True:", "tests/host/test_files.py"
    ),
    Mutation("host/places.py", "if stat.S_ISLNK(os.lstat(at).st_mode):", "if False:", "tests/host/test_files.py"),
    Mutation("core/checks/values.py", "if section not in sections:", "if True:", LANGUAGE),
    Mutation(
        "core/next_step.py",
        'words = [*self.options, "--", *self.arguments] if odd',
        "words = [*self.options] if odd",
        "tests/cli/test_finding_steps.py",
    ),
    Mutation(
        "cli/fleet/waves.py",
        "(any(row.code for row in here) and not go_on):",
        "False:",
        "tests/cli/test_waves.py -k 'not called_off'",
    ),
    Mutation("core/formats/shared/joined_edits.py", "if (at, at + 1) in stretches:", "if False:", JOINED),
    Mutation("core/formats/shared/joined_edits.py", "if len(changed) > 1:", "if False:", JOINED),
    Mutation("core/slate.py", "or operation.shown_name in built_on:", "or False:", JOINED),
    Mutation("core/slate.py", "or operation.shown_name in names:", "or False:", JOINED),
    Mutation("core/records/sets.py", "if record.key not in own]", "]", "tests/cli/test_record_copies.py"),
    Mutation(
        "core/records/nested.py",
        "if made and all(isinstance",
        "if False and all(isinstance",
        "tests/cli/test_record_copies.py",
    ),
    Mutation(
        "api/record_changes.py",
        "if record.key in below:  # what is changed",
        "if False:  # what is changed",
        "tests/cli/test_record_copies.py",
    ),
    Mutation(
        "host/backups/in_place.py", 'home.move(f"{aside}/new/{unit}", unit)', "pass", "tests/faults/test_restores.py"
    ),
    Mutation("host/backups/in_place.py", "if was_moved and had:", "if False:", "tests/faults/test_restores.py"),
    Mutation("host/backups/in_place.py", "and parent.is_symlink():", "and False:", "tests/faults/test_restores.py"),
    Mutation(
        "host/rounds/bring_up.py",
        "within_reach(round, lambda: swap_back(round))\n",
        "pass\n",
        "tests/faults/test_restores.py",
    ),
    Mutation("host/notices/sending.py", "code >= 500 or code in", "code in", "tests/cli/test_notices.py"),
    Mutation("host/notices/secrets.py", "st_mode & 0o077", "st_mode & 0", "tests/cli/test_notices.py"),
    Mutation("host/fleet/ports.py", "if port.promise.server in checked:", "if True:", "tests/cli/test_fit.py"),
    Mutation("host/fleet/ports.py", ") and overlap(\n", ") or overlap(\n", "tests/cli/test_fit.py"),
    Mutation(
        "core/checks/values.py",
        "if spoiled and document.text.place(entry.key_start)[0] in spoiled:",
        "if False:",
        "tests/cli/test_commands.py -k each_mistake",
    ),
    Mutation("core/patterns.py", "< 2 and not _REPEATED_GROUP.search(pattern)", "< 2", "tests/host/test_patterns.py"),
    Mutation(
        "core/patterns.py",
        "_OF_SOME_LENGTH.findall(pattern)) < 2",
        "_OF_SOME_LENGTH.findall(pattern)) < 9",
        "tests/host/test_patterns.py",
    ),
    Mutation("host/fleet/ports.py", "if name not in checked:", "if True:", "tests/cli/test_fit.py"),
    Mutation("host/fleet/ports.py", "except (Trouble, OSError):", "except OSError:", "tests/cli/test_fit.py"),
    Mutation("host/checking.py", "ports += other_ports(servers[0], checked)", "pass", "tests/cli/test_fit.py"),
    Mutation(
        "core/described.py", "docstrings[name].partition(_EXAMPLE)", '"x".partition(_EXAMPLE)', "tests/test_docs.py"
    ),
    Mutation("api/admins.py", "key.startswith(home) or home.startswith(key)", "False", ROSTERS),
    Mutation(
        "core/operations/registry.py",
        "if tag not in KINDS:\n        return None",
        "if False:\n        return None",
        "tests/core/test_operations.py",
    ),
    Mutation("host/notices/outbox.py", "str(notice.event) not in recipient.on", "False", "tests/cli/test_notices.py"),
    Mutation(
        "host/notices/delivering.py", "if notice.at < began - _TOO_OLD:", "if False:", "tests/cli/test_notices.py"
    ),
    Mutation(
        "host/notices/of_rounds.py",
        "round.without_secrets(round.options.reason)}",
        "round.options.reason}",
        "tests/cli/test_notices.py",
    ),
    Mutation(
        "core/notices/model.py",
        "if whole is not None and whole[1] in fields:",
        "if False:",
        "tests/cli/test_notices.py",
    ),
    Mutation("core/timetable/looking.py", 'or (outcome == "missed" and not is_late)', "", "tests/core/test_moments.py"),
    Mutation("core/timetable/looking.py", "missed.append(due.at)", "pass", "tests/core/test_moments.py"),
    Mutation("core/timetable/looking.py", "known = min(known, now)", "known = known", "tests/core/test_moments.py"),
    Mutation("core/timetable/looking.py", "if at - lead > now:", "if at > now:", "tests/core/test_moments.py"),
    Mutation("cli/changes/private_copy.py", "if self.is_hung_up:", "if False:", "tests/cli/test_edit_file.py"),
    Mutation(
        "cli/changes/private_copy.py",
        "if is_person and _is_written(copy):",
        "if _is_written(copy):",
        "tests/cli/test_edit_file.py",
    ),
    Mutation(
        "host/notices/of_rounds.py",
        "elif outcome is RoundOutcome.UNFINISHED and round.down_since is None:",
        "elif False:",
        "tests/faults/test_unfinished.py",
    ),
    Mutation(
        "host/rounds/bring_up.py",
        "except (RoundAborted, Trouble, OSError) as second:",
        "except (RoundAborted, Trouble) as second:",
        "tests/faults/test_unfinished.py",
    ),
    Mutation("core/timetable/moments.py", "if moment > last:", "if True:", "tests/core/test_moments.py"),
    Mutation(
        "host/timetable/books.py",
        "INSERT OR IGNORE INTO moment VALUES (?, ?, ?, ?",
        "INSERT OR REPLACE INTO moment VALUES (?, ?, ?, ?",
        "tests/host/test_timetable_books.py",
    ),
    Mutation(
        "host/timetable/deeds.py",
        "if not gathered.review.changes and not gathered.differs:",
        "if False:",
        "tests/cli/test_timetable.py",
    ),
    Mutation(
        "host/rounds/announce.py",
        "if until is not None and time.monotonic() >= until:",
        "if False:",
        "tests/cli/test_timetable.py",
    ),
    Mutation(
        "core/slate.py",
        "if changed is not document and len(problems_of(changed))",
        "if False and len(problems_of(changed))",
        JOINED,
    ),
    Mutation(
        "host/site_file/checking.py",
        'or (word[:1] == "@" and word[1:] in entry.tags)',
        "or word[1:] in entry.tags",
        "tests/cli/test_timetable.py -k name",
    ),
    Mutation("host/keeper/clock.py", "due != self._asked_for or now", "True or now", "tests/host/test_keeper_clock.py"),
    Mutation(
        "host/rounds/snapshot/retention.py",
        "closed[site.file.rounds.keep :] if",
        "closed[site.file.rounds.keep + 1 :] if",
        RETENTION,
    ),
    Mutation("host/rounds/snapshot/retention.py", " or entry.name.startswith(KEPT)", "", RETENTION),
    Mutation("host/rounds/snapshot/retention.py", "] if site.file.rounds.keep else []", "]", RETENTION),
    Mutation(
        "host/rounds/snapshot/retention.py",
        "return folder.is_dir() and not (folder / DELETED).exists()",
        "return (folder / INDEX['before']).exists()",
        RETENTION,
    ),
    Mutation("host/rounds/snapshot/save.py", "        _refuse_deleted(site, number)", "        pass", RETENTION),
    Mutation(
        "host/store.py",
        "\"SELECT number FROM round WHERE server=? AND outcome<>'' ORDER BY number DESC\",",
        "\"SELECT number FROM round WHERE server<>? AND outcome<>'' ORDER BY number DESC\",",
        RETENTION,
    ),
    Mutation(
        "core/formats/launch/problems.py",
        "        if arithmetic and arithmetic[0][0] < begin:",
        "        if False:",
        "tests/core/test_corpus.py -k launch",
    ),
    Mutation(
        "host/backups/holding.py",
        "with _lock(server), _signals_as_exceptions()",
        "with _signals_as_exceptions()",
        "tests/cli/test_backups.py -k second",
    ),
    Mutation(
        "host/backups/watch.py",
        "    if not os.read(0, 64):",
        "    if os.read(0, 64):",
        "tests/cli/test_backups.py -k killed",
    ),
    Mutation(
        "host/backups/holding.py",
        "            if not driver.state().runs:\n                return False",
        "            if False:\n                return False",
        "tests/cli/test_backups.py -k killed",
    ),
    Mutation(
        "host/keeper/loop.py",
        "if client is self.stopper and client.round is None:",
        "if False:",
        "tests/host/test_keeper.py -k broken_off",
    ),
    Mutation(
        "host/keeper/loop.py",
        "        self.stopper = None\n        for stream",
        "        for stream",
        "tests/host/test_keeper.py -k soon_after",
    ),
    Mutation(
        "host/keeper/child.py",
        "self.exit_wanted_until, self.stop_failed = 0.0, False",
        "self.stop_failed = False",
        "tests/host/test_keeper.py -k soon_after",
    ),
    Mutation(
        "host/keeper/interpreter.py",
        'return [sys.executable, "-P", "-m", module, *arguments]',
        'return [sys.executable, "-m", module, *arguments]',
        "tests/faults/test_hostile_files.py -k named_like",
    ),
    Mutation("host/rounds/snapshot/retention.py", "worlds[site.file.backup.keep :]", "worlds[1:]", RETENTION),
    Mutation("host/store.py", "DESC LIMIT -1 OFFSET ?", "ASC LIMIT -1 OFFSET ?", RETENTION),
    Mutation("host/keeper/heir.py", "return process if above == os.getpid() else None", "return process", BACKGROUND),
    Mutation("host/keeper/heir.py", "os.waitpid(process, os.WNOHANG)", "pass", BACKGROUND),
    Mutation("host/keeper/heir.py", "found + [below for", "[below for", WAYS),
    Mutation(
        "host/keeper/loop.py", "[] if was_up or not self._leased() else self._end_what_is_left()", "[]", BACKGROUND
    ),
    Mutation("host/keeper/child.py", 'record.get("outside", False)', "False", WAYS),
    Mutation("host/keeper/child.py", "if os.getpgid(process) == process:", "if True:", WAYS),
    Mutation("host/rounds/stop.py", "machine.family(process) if process and", "[] if process and", WAYS),
    Mutation("host/rounds/watching.py", "between.counting(name) != after.counting(name)", "False", KEPT),
    Mutation("host/rounds/watching.py", "_is_lost(name, between, after)]", "True]", KEPT),
    Mutation(
        "host/rounds/snapshot/save.py",
        "or round.saved_ahead.get(path) != index[path]",
        "or path not in round.saved_ahead",
        KEPT,
    ),
    Mutation(
        "host/rounds/recover.py", "        tell_called_off(round)", "        pass", "tests/faults/test_unfinished.py"
    ),
    Mutation(
        "host/rounds/engine.py",
        "            round.driver.pledge(round.number)",
        "            pass",
        "tests/faults/test_unfinished.py",
    ),
    Mutation(
        "host/timetable/books.py",
        "AND (due<=? OR outcome='running')\"",
        'AND (due>? OR 1)"',
        "tests/host/test_timetable_books.py",
    ),
    Mutation("host/fleet/networks.py", "if found.mark in held", "if held", "tests/host/test_process.py -k network"),
]
