"""The table of faults for ``docs/faults.md``: each row is held by the test that it names.

Run ``python tests/faults/table.py`` to write the page again; ``test_table.py`` holds that it is current and that every
named test is there.
"""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

PAGE = Path(__file__).parent.parent.parent / "docs" / "faults.md"


class Fault(NamedTuple):
    """One fault: what happens, when, how the command or round ends, and what becomes of files and server."""

    fault: str
    moment: str
    outcome: str
    files: str
    server: str
    test: str


OLD, NEW, WHOLE, SAME = "as before", "new", "wholly old or wholly new", "untouched"
UP, DOWN, RUNS = "up again", "down, as asked", "runs on"
DOWN_TEST, KEPT, FILES, STATE = "test_never_down", "test_edits_kept", "test_hostile_files", "test_state"
INTRUDERS, UNREADY, DRIVERS = "test_intruders", "test_never_ready", "test_drivers"
RENTED, SFTP, SAVED = "test_rented", "test_rented_sftp", "test_rented_backups"
KEEPER, CRASH, DISK = "test_keeper", "test_crashes", "test_full_disk"

ROWS = (
    # --- servers and keepers
    Fault("the server ignores the stop for longer than its grace time", "stop", "failed", SAME, "started again when it ends late", f"{DOWN_TEST}::test_a_server_that_ends_long_after_a_failed_stop_is_started_again"),
    Fault("the server crashes after a failed stop", "later", "a crash like any other", SAME, UP, f"{DOWN_TEST}::test_after_a_failed_stop_a_crash_is_a_crash"),
    Fault("`stop` is heard late", "after the grace time", "failed, and said", SAME, "down, as asked", f"{DOWN_TEST}::test_a_stop_that_comes_late_is_still_a_stop"),
    Fault("the keeper gets SIGKILL", "while the server runs", "a new keeper at once", SAME, RUNS, f"{KEEPER}::test_a_keeper_that_dies_is_replaced_at_once_and_the_server_runs_on"),
    Fault("the keeper gets SIGTERM", "while the server runs", "a new keeper at once", SAME, RUNS, f"{KEEPER}::test_a_keeper_that_dies_is_replaced_at_once_and_the_server_runs_on"),
    Fault("the keeper gets SIGSEGV", "while the server runs", "a new keeper at once", SAME, RUNS, f"{KEEPER}::test_a_keeper_that_dies_is_replaced_at_once_and_the_server_runs_on"),
    Fault("keeper and guard die", "while the server runs", "the next command takes the server over", SAME, RUNS, f"{KEEPER}::test_the_next_command_takes_over_a_server_whose_keeper_and_guard_are_dead"),
    Fault("the server writes while no keeper reads", "between two keepers", "nothing is lost", SAME, RUNS, f"{KEEPER}::test_a_server_goes_on_talking_while_no_keeper_listens"),
    Fault("keeper, guard and server die", "at once", "the next command brings it back", SAME, UP, f"{KEEPER}::test_a_server_that_died_with_its_keeper_is_brought_back_by_the_next_command"),
    Fault("the keeper's socket is deleted", "while the server runs", "reopened", SAME, RUNS, f"{KEEPER}::test_a_deleted_socket_is_no_dead_keeper"),
    Fault("a client sends no object, deep JSON, odd signals, half characters, 3 MB", "while the server runs", "that client is cut off or refused", SAME, RUNS, f"{KEEPER}::test_nothing_that_a_client_sends_ends_the_keeper"),
    Fault("100 connections with 64 handles", "while the server runs", "those too many are closed", SAME, RUNS, f"{KEEPER}::test_more_connections_than_a_keeper_can_hold_do_not_end_it"),
    Fault("the log cannot be rotated; its folder is gone", "while the server runs", "lines are lost until it is back", SAME, RUNS, f"{KEEPER}::test_a_log_that_cannot_be_rotated_or_has_no_folder_does_not_end_the_keeper"),
    Fault("the server crashes", "while it runs", "shown by `status` and `rounds`", SAME, UP, f"{DOWN_TEST}::test_a_crash_and_its_coming_back_are_shown"),
    Fault("the server crashes again and again", "while it runs", "given up after a few, and said", SAME, "down, and said", f"{KEEPER}::test_after_a_few_crashes_the_keeper_gives_up_and_says_so"),
    Fault("the server ends just before its round lets go", "end of a round", "a crash like any other", SAME, UP, f"{KEEPER}::test_a_server_that_ends_just_before_its_round_lets_go_is_started_again"),
    Fault("one keeper hangs", "`status`, `check @all`", "its row says so", SAME, RUNS, f"{DOWN_TEST}::test_one_hung_keeper_or_missing_folder_does_not_hide_the_other_servers"),
    Fault("one server's folder is gone", "`status`, `check @all`", "its row says so", SAME, "-", f"{DOWN_TEST}::test_one_hung_keeper_or_missing_folder_does_not_hide_the_other_servers"),
    # --- rounds that are killed
    Fault("round, keeper and server are killed", "gather begins", "`recover` starts it", OLD, UP, f"{DOWN_TEST}::test_a_round_killed_before_or_at_its_beginning_knows_whether_the_server_ran"),
    Fault("round, keeper and server are killed", "changes are claimed", "`recover` starts it", OLD, UP, f"{DOWN_TEST}::test_a_round_killed_before_or_at_its_beginning_knows_whether_the_server_ran"),
    Fault("round, keeper and server are killed", "gather ends", "`recover` starts it", OLD, UP, f"{DOWN_TEST}::test_a_round_killed_before_or_at_its_beginning_knows_whether_the_server_ran"),
    Fault("round, keeper and server are killed", "announce begins", "`recover` starts it", OLD, UP, f"{DOWN_TEST}::test_a_round_killed_before_or_at_its_beginning_knows_whether_the_server_ran"),
    Fault("the round is killed", "at every act on the disk of a proven round", "recovered by the keeper", WHOLE, UP, f"{CRASH}::test_a_crash_at_any_act_leaves_all_old_or_all_new_and_the_server_up"),
    Fault("the round is killed", "at every act on the disk of a rewound round", "recovered by the keeper", WHOLE, UP, f"{CRASH}::test_a_crash_at_any_act_leaves_all_old_or_all_new_and_the_server_up"),
    Fault("round and keeper are killed", "between two files of the write", "`recover` puts back", OLD, UP, f"{CRASH}::test_with_the_keeper_dead_too_the_next_command_says_so_and_recover_finishes"),
    Fault("the round is killed", "stop begins", "recovered though nobody looks", OLD, UP, f"{CRASH}::test_a_keeper_that_lives_recovers_by_itself_though_nobody_looks"),
    Fault("a round is killed", "the recovery of the one before has not ended yet", "recovered though nobody looks", OLD, UP, f"{CRASH}::test_a_recovery_that_is_slow_to_end_keeps_nothing_else_from_being_recovered"),
    Fault("three people call `recover` while the keeper recovers", "after a kill", "each is told", WHOLE, UP, f"{KEPT}::test_two_people_who_call_recover_at_once_are_both_told"),
    Fault("the terminal is closed", "countdown", "the round goes on; `cancel` ends it", SAME, RUNS, f"{DOWN_TEST}::test_a_waiting_round_is_shown_and_can_be_called_off_from_another_terminal"),
    Fault("the terminal is paused", "any", "the round does not wait for it", NEW, UP, f"{DOWN_TEST}::test_a_paused_terminal_does_not_hold_up_its_round"),
    # --- starts and proofs
    Fault("errors on disk made by hand", "`restart`, before the stop", "refused", SAME, RUNS, f"{DOWN_TEST}::test_restart_refuses_errors_on_disk_before_the_stop"),
    Fault("a file broken by hand keeps the server from starting", "`restart --force`", "rewound", "those it had last started with; the broken one is kept", UP, f"{DOWN_TEST}::test_a_rewind_brings_back_what_the_server_had_started_with"),
    Fault("the server says at once that it failed", "start", "rewound without waiting for the ready sign", OLD, UP, f"{DOWN_TEST}::test_a_server_that_says_at_once_that_it_failed_does_not_cost_the_whole_start"),
    Fault("the public list is slow, silent or wrong", "after the proof", "proven; `status` tells of the list", NEW, UP, "test_rounds::test_a_public_list_never_undoes_anything_and_is_looked_at_after_the_round"),
    # --- edits by others
    Fault("a hand edits a file that the server rewrites", "wait of `apply`", "proven; the edit goes in too", NEW, UP, f"{KEPT}::test_an_edit_by_hand_during_the_wait_survives_the_stop"),
    Fault("a hand edits a file that the server rewrites", "wait of `restart`", "done; the edit goes in too", NEW, UP, f"{KEPT}::test_an_edit_by_hand_during_the_wait_survives_the_stop"),
    Fault("a hand edits what the round sets", "wait", "proven; both values are told", NEW, UP, f"{KEPT}::test_an_edit_by_hand_of_what_the_round_sets_is_told"),
    Fault("a hand makes a mistake in a file", "wait", "refused before the stop", SAME, RUNS, f"{KEPT}::test_a_mistake_by_hand_during_the_wait_ends_the_round_before_the_stop"),
    Fault("somebody sets another value", "wait", "proven with what was reviewed; the other waits", NEW, UP, f"{KEPT}::test_what_is_set_or_discarded_during_the_wait_is_not_part_of_the_round"),
    Fault("somebody discards a change of the round", "wait", "refused: the round has it", NEW, UP, f"{KEPT}::test_what_is_set_or_discarded_during_the_wait_is_not_part_of_the_round"),
    Fault("a value is set again while the round fails", "wait", "rewound; the newer value waits", OLD, UP, f"{KEPT}::test_after_a_rewind_what_was_set_since_stands_for_the_same_key"),
    Fault("a file is edited once", "between replay and write", "read again; both edits are there", NEW, UP, f"{KEPT}::test_an_edit_between_replay_and_write_is_seen"),
    Fault("a file is edited again and again", "between replay and write", "failed, and said", "the other's edits", UP, f"{KEPT}::test_an_edit_between_replay_and_write_is_seen"),
    Fault("files are edited", "before a rewind", "rewound; what is replaced is kept and named", "those of the round only", UP, f"{KEPT}::test_a_rewind_puts_back_only_what_the_round_wrote_and_keeps_what_it_replaces"),
    Fault("files are edited", "before `rewind N`", "said before; kept", "those of round N only", UP, f"{KEPT}::test_going_back_before_a_round_tells_of_later_edits_and_keeps_them"),
    Fault("the server writes its file all the time", "every step", "proven", NEW, UP, f"{KEPT}::test_a_server_that_rewrites_its_file_all_the_time_can_be_applied_to"),
    Fault("eight people adopt at once", "`adopt`", "all are there", NEW, "-", f"{KEPT}::test_servers_adopted_at_once_are_all_there"),
    Fault("a folder becomes a link that leads outside", "between prepare and commit", "refused", SAME, "-", f"{KEPT}::test_a_folder_swapped_for_a_link_leads_nowhere"),
    Fault("a folder becomes a link that leads outside", "between look and open", "refused", SAME, "-", f"{KEPT}::test_a_folder_swapped_between_the_look_and_the_step_is_noticed"),
    Fault("a link in a folder leads outside", "`check --fix FOLDER`", "left alone, and said", SAME, "-", f"{KEPT}::test_fixing_a_folder_leaves_files_alone_that_lie_outside_of_it"),
    # --- hostile files, patterns and consoles
    Fault("hostile shapes in ten files", "`status`, `discard`, `stop`, `start`, `recover`", "all of them work", SAME, UP, f"{FILES}::test_the_life_of_a_server_does_not_hang_on_what_its_files_hold"),
    Fault("any bytes in ten files", "`status`, `discard`, `stop`, `start`, `recover`", "all of them work", SAME, UP, f"{FILES}::test_the_life_of_a_server_does_not_hang_on_what_its_files_hold"),
    Fault("a pipe in a file's place", "`status`, `stop`, `start`, `check`", "a finding", SAME, UP, f"{FILES}::test_what_is_no_regular_file_is_not_read"),
    Fault("a device in a file's place", "`status`, `stop`, `start`, `check`", "a finding; the keeper stays small", SAME, UP, f"{FILES}::test_what_is_no_regular_file_is_not_read"),
    Fault("a socket, a folder or a circular link in a file's place", "`status`, `stop`, `start`, `check`", "a finding", SAME, UP, f"{FILES}::test_what_is_no_regular_file_is_not_read"),
    Fault("a broken pattern in the rulebook", "`apply`, `restart`", "refused before the stop", SAME, RUNS, f"{FILES}::test_a_pattern_that_breaks_while_the_server_is_up_is_refused_before_the_stop"),
    Fault("an unknown signal in the rulebook", "`apply`, `restart`, `rulebook check`", "refused before the stop", SAME, RUNS, f"{FILES}::test_a_pattern_that_breaks_while_the_server_is_up_is_refused_before_the_stop"),
    Fault("a broken rulebook", "`stop`", "done with the last good one", SAME, DOWN, f"{FILES}::test_a_pattern_that_breaks_while_the_server_is_up_is_refused_before_the_stop"),
    Fault("a pattern with endless backtracking", "every line of the log", "switched off, and said", SAME, RUNS, f"{FILES}::test_a_pattern_with_endless_backtracking_does_not_stop_the_keeper"),
    Fault("a TCP console that talks without end", "`set --now`, `stop`", "left in time", SAME, DOWN, f"{FILES}::test_a_tcp_console_that_talks_without_end_is_left_in_time"),
    # --- state and disk
    Fault("the state file is cut in half", "any command", "kept aside; rebuilt", SAME, RUNS, f"{STATE}::test_a_damaged_state_file_is_set_aside_and_the_server_can_be_stopped"),
    Fault("the state file is garbled", "any command", "kept aside; rebuilt", SAME, RUNS, f"{STATE}::test_a_damaged_state_file_is_set_aside_and_the_server_can_be_stopped"),
    Fault("the state file is a text, or empty", "any command", "kept aside; rebuilt", SAME, RUNS, f"{STATE}::test_a_damaged_state_file_is_set_aside_and_the_server_can_be_stopped"),
    Fault("the state file is deleted", "any command", "said; numbers go on", SAME, RUNS, f"{STATE}::test_a_lost_state_file_is_told_and_round_numbers_go_on"),
    Fault("a table is missing", "any command", "said; made again", SAME, RUNS, f"{STATE}::test_a_missing_table_is_made_again"),
    Fault("the state file is an older version's", "any command", "brought to today's form", SAME, RUNS, f"{STATE}::test_the_form_of_an_older_version_is_brought_to_todays"),
    Fault("the state file is a newer version's", "`stop`", "done without the books", SAME, DOWN, f"{STATE}::test_the_form_of_a_newer_version_is_left_alone"),
    Fault("a slate entry cannot be read", "`restart`, `apply`, `discard`", "said; all work", NEW, UP, f"{STATE}::test_an_entry_that_cannot_be_read_does_not_keep_the_server_from_being_stopped"),
    Fault("the state file is locked for good", "`stop`, `start`", "done without the books", SAME, UP, f"{STATE}::test_a_disk_without_room_or_a_state_that_is_write_protected_does_not_keep_a_server_from_being_stopped"),
    Fault("another user calls", "any command", "one clear message", SAME, RUNS, f"{STATE}::test_another_users_commands_end_in_one_clear_message"),
    Fault("the state folder is another user's, open to all, or a link", "any command", "refused", SAME, "-", f"{STATE}::test_a_state_folder_of_another_user_is_not_believed"),
    Fault("root looks at somebody's site", "`status`, `set`", "done as that user", SAME, "-", f"{STATE}::test_a_look_by_root_does_not_lock_the_owner_out"),
    Fault("no room for a large file", "save", "failed", OLD, UP, f"{DISK}::test_a_limit_on_what_may_be_written_ends_the_round_and_brings_the_server_up"),
    Fault("the snapshot's folder cannot be made", "save", "failed", OLD, UP, f"{DISK}::test_files_that_cannot_be_saved_end_the_round_before_anything_is_written"),
    Fault("a folder is in the way of a file", "rewind", "open, told once, and tried again until it is gone", OLD, UP, "test_unfinished::test_a_round_that_cannot_put_its_files_back_stays_open_tells_so_once_and_is_finished"),
    Fault("the terminal is closed", "`edit`", "what was written is kept, and said at the next `edit`", SAME, RUNS, "test_edit_file::test_what_was_written_outlives_a_terminal_that_closes"),
    Fault("the disk is full to the last block", "`apply`", "failed or recovered later", OLD, UP, f"{DISK}::test_a_disk_that_is_really_full"),
    # --- backups and many servers
    Fault("files named like modules, `json.py` and others", "in the folder in which one calls commands", "never run", SAME, RUNS, "test_hostile_files::test_a_file_named_like_a_module_is_never_run"),
    Fault("the backup gets SIGKILL", "while the server's saving is held", "told to save again; a notice", SAME, RUNS, "test_backups::test_a_server_saves_again_where_its_backup_is_killed"),
    Fault("the backup gets SIGTERM or its terminal is closed", "while the server's saving is held", "told to save again", SAME, RUNS, "test_backups::test_a_server_saves_again_where_its_backup_is_ended_by_a_signal"),
    Fault("two backups of a server at once", "while the first one holds its saving", "the second waits for the first", SAME, RUNS, "test_backups::test_a_second_backup_does_not_end_the_hold_of_the_first"),
    Fault("a stop without books is interrupted", "and the server crashes later", "a crash like any other", SAME, UP, "test_keeper::test_a_crash_long_after_a_stop_that_was_broken_off_is_a_crash"),
    Fault("the disk is full", "`backup`", "said; nothing is left of it", SAME, RUNS, "test_backups::test_a_full_disk_leaves_no_half_backup"),
    Fault("the archive is damaged, cut, or gone", "`backup check`, `restore`", "said; nothing is restored", SAME, RUNS, "test_backups::test_a_damaged_archive_is_told_and_not_restored"),
    Fault("the archive holds `../`, an absolute path, a link or a device", "`backup restore`", "refused", SAME, RUNS, "test_backups::test_a_member_that_leads_outside_is_refused"),
    Fault("a file changes while it is saved", "`backup`", "read again, or refused", SAME, RUNS, "test_backups::test_a_file_that_changes_all_the_time_is_not_saved_as_a_mixture"),
    Fault("two backups at once", "`backup`", "the second waits for the first", SAME, RUNS, "test_backups::test_two_backups_at_once"),
    Fault("a crash at any act of a restore", "`backup restore`", "swapped in or swapped back by itself", "wholly old or new", UP, "test_restores::test_a_crash_at_any_act_leaves_a_world_wholly_old_or_new_and_the_server_up"),
    Fault("the archive is damaged", "`backup restore` into place", "refused before the stop", SAME, RUNS, "test_restores::test_a_damaged_archive_and_a_full_disk_stop_nothing"),
    Fault("the server does not start with what a backup holds", "`backup restore`", "swapped back", OLD, UP, "test_restores::test_what_is_not_proven_is_swapped_back"),
    Fault("a webhook that never answers", "any round", "tried again by another process", NEW, UP, "test_notices::test_a_webhook_that_never_answers_holds_up_neither_round_nor_others"),
    Fault("a webhook that redirects, answers 500, or is not there", "`notices`", "tried again, or said", SAME, RUNS, "test_notices::test_what_a_webhook_answers"),
    Fault("a mail server that refuses", "`notices`", "tried again, or said", SAME, RUNS, "test_notices::test_a_mailbox_that_refuses"),
    Fault("the clock jumps an hour, the machine sleeps", "the timetable", "each moment once, or told as missed", SAME, RUNS, "test_moments::test_each_moment_of_a_year_is_taken_once_whatever_the_clock_does"),
    Fault("many who look at the timetable at once", "the timetable", "one of them does it", SAME, RUNS, "test_timetable::test_many_who_look_at_once_do_it_once"),
    Fault("a wrong expression or zone", "the timetable", "said; nothing is done", SAME, RUNS, "test_timetable::test_wrong_tables_are_told"),
    Fault("the timetable's books are damaged", "the timetable", "kept aside, started over", SAME, RUNS, "test_timetable::test_damaged_books_are_begun_anew"),
    Fault("two `apply @all` at once", "`apply`", "each server once; the other is told", NEW, UP, "test_waves::test_two_who_apply_to_all_at_once_do_it_once"),
    Fault("a server in two clusters that disagree", "`check`", "one finding", SAME, RUNS, "test_fit::test_a_server_in_two_clusters_that_disagree_is_told_once"),
    Fault("a server of a wave fails", "`apply --waves`", "rewound; no further wave begins", "as before there", UP, "test_waves::test_a_wave_that_fails_stops_the_rest"),
    Fault("a server of a wave is held by another round", "`restart --waves`", "refused there", SAME, RUNS, "test_waves::test_a_restart_in_waves_and_a_server_that_is_busy"),
    # --- what a rulebook, a server's user, an archive or a log would like to do
    Fault("a rulebook names a command", "`show --ask`, `apply`", "not run until it is allowed; then as the server's user", SAME, RUNS, f"{INTRUDERS}::test_a_command_of_a_rulebook_runs_only_once_it_is_allowed_and_then_as_the_servers_user"),
    Fault("a rulebook's command leaves a process behind, or talks without end", "`show --ask`", "ended in time", SAME, RUNS, f"{INTRUDERS}::test_a_command_that_leaves_a_process_behind_or_talks_without_end_holds_nobody_up"),
    Fault("a link to root's file takes a planned file's place", "`backup` by root", "refused; no archive stays", SAME, RUNS, f"{INTRUDERS}::test_no_file_of_roots_gets_into_a_backup_by_a_link_that_takes_a_planned_files_place"),
    Fault("logs of a rulebook, or links among them, lead outside", "`people seen`", "not read unless the site file says so", SAME, RUNS, f"{INTRUDERS}::test_no_log_outside_of_the_servers_folder_is_read"),
    Fault("a link leads to root's file", "`edit`, `check`", "refused; nothing of it is shown", SAME, RUNS, f"{INTRUDERS}::test_an_edit_of_a_link_shows_nothing_of_what_it_leads_to"),
    Fault("a link takes the place of the console's pipe", "`send`", "refused", SAME, RUNS, f"{INTRUDERS}::test_the_consoles_pipe_is_no_way_to_write_elsewhere"),
    Fault("a pipe takes the place of a log or a world's file", "`people seen`, `backup`, `apply`", "left out", SAME, RUNS, f"{INTRUDERS}::test_a_pipe_or_a_device_in_a_files_place_stops_nothing"),
    Fault("sixty generated archives: `x` and `x/y`, long names, odd types, links, setuid", "`backup restore --to`", "restored as the manifest says, or refused", SAME, RUNS, "test_archives::test_an_archive_leads_nowhere_and_makes_nothing_that_its_manifest_does_not_name"),
    Fault("a few packed kilobytes that become gigabytes", "`backup restore`, `backup check`", "refused at the manifest's size", SAME, RUNS, "test_archives::test_a_few_packed_bytes_do_not_become_gigabytes"),
    Fault("three links in a row lead out", "`backup restore --to`", "refused", SAME, RUNS, "test_archives::test_three_links_in_a_row_do_not_lead_out"),
    Fault("braces in a reason, a name or a log line", "notices", "sent as they are; they name no secret", SAME, RUNS, "test_notice_fields::test_a_field_never_names_a_secret"),
    Fault("a line with a secret is broken at random", "`check`", "nothing after the secret's name is shown", SAME, "-", "test_broken_secrets::test_no_finding_of_a_broken_file_shows_its_secret"),
    Fault("a pattern with endless backtracking", "`people seen`", "switched off; `status` names it", SAME, RUNS, "test_patterns::test_people_seen_ends_whatever_the_rulebooks_patterns_are_and_status_names_them"),
    # --- up or not
    Fault("a process is never ready and ignores its signals", "rewind", "told again, then ended; rewound", OLD, UP, f"{UNREADY}::test_a_process_that_was_never_ready_and_ignores_its_signals_is_ended_for_the_old_files"),
    Fault("the host's wrapper waits before it restarts", "`apply` with driver `self`", "proven", NEW, UP, f"{DRIVERS}::test_a_wrapper_that_waits_before_it_restarts_is_no_lost_server"),
    Fault("the round's process dies before it holds the server, such as in the countdown", "gather, announce", "closed as failed by the keeper", OLD, "runs on; players are told that it is off", "test_unfinished::test_a_round_that_is_killed_before_the_stop_is_closed_by_the_keeper_and_players_are_told"),
    Fault("an edit by hand while the server stops, over which it writes", "stop", "told; the round goes on", "new; a copy of the edit is kept", UP, f"{KEPT}::test_an_edit_by_hand_while_the_server_stops_is_kept_as_a_copy_and_told"),
    Fault("a start command goes into the background, without a PID file", "start", "failed, with what to do", SAME, "ended: nothing is left", "test_background::test_a_start_that_fails_leaves_no_server_in_the_background"),
    Fault("a PID file names somebody else's process", "start, stop", "not believed", SAME, DOWN, "test_background::test_a_pidfile_that_names_somebody_elses_process_is_not_believed"),
    Fault("the server has a network namespace of its own, and its port is taken outside", "`apply`", "proven there", NEW, UP, "test_process::test_a_server_in_a_network_namespace_of_its_own_is_proven_there"),
    Fault("the server was started elsewhere", "`status`, `start`", "up, not held; refused", SAME, RUNS, f"{DRIVERS}::test_a_server_that_was_started_elsewhere_is_up_and_not_held"),
    Fault("the rulebook names no logs", "driver `commands`", "ready by its ports and probe", NEW, UP, f"{DRIVERS}::test_a_server_whose_logs_nobody_names_is_ready_by_its_ports_and_probe"),
    Fault("a start fails", "`start`", "failed; no keeper stays", SAME, "down, and said", f"{UNREADY}::test_no_keeper_stays_after_a_start_that_failed"),
    # --- nothing forgotten
    Fault("three backups at one moment", "`backup`", "one after the other", SAME, RUNS, "test_backups::test_the_timetables_backups_of_several_servers_at_one_moment_are_all_made"),
    Fault("the process of a moment dies", "the timetable", "told as interrupted; made up where the table says so", SAME, RUNS, "test_timetable::test_what_a_process_that_died_had_begun_is_told_and_made_up_where_the_table_says_so"),
    Fault("the editor returns at once", "`edit`", "waited for", SAME, RUNS, "test_edit_file::test_an_editor_that_returns_at_once_is_waited_for"),
    Fault("a rented machine's file service dies at any act on a file", "write, and the way back", "undone; else open until it answers", WHOLE, "as it was", f"{RENTED}::test_a_service_that_dies_at_any_act_leaves_files_that_recover_makes_whole"),
    Fault("the line to a rented machine is cut at any byte", "any", "undone, failed or proven; else open until it answers", WHOLE, UP, f"{SFTP}::test_a_line_that_is_cut_at_any_byte_leaves_files_that_recover_makes_whole"),
    Fault("a rented machine is out of reach", "`show`, `set`, `apply`", "the copy is shown, with a note; `apply` refuses", SAME, "not known", f"{RENTED}::test_a_place_out_of_reach_shows_the_copy_and_takes_changes_onto_the_slate"),
    Fault("somebody edits a file on a rented machine", "between review and write", "both changes are there", NEW, UP, f"{RENTED}::test_somebody_who_changes_a_file_there_meanwhile_is_not_overwritten"),
    Fault("a rented machine's file service dies at any act on a file", "restore", "done, undone or refused; else open until it answers", "wholly old or wholly new; what could not be cleared goes with the next one", "as it was", f"{SAVED}::test_a_restore_that_a_dying_service_breaks_off_is_finished_or_undone"),
    Fault("a rented machine's file service dies", "backup", "told; the next one goes on where it was", SAME, "as it was", f"{SAVED}::test_a_backup_goes_on_where_a_killed_service_broke_it_off"),
    Fault("a rented machine has no room left", "restore", "refused", SAME, "as it was", f"{SAVED}::test_a_place_without_room_refuses_a_restore_and_keeps_what_it_has"),
    Fault("a file service that gives no file its mode", "write of a start script", "written over in its place", NEW, UP, f"{RENTED}::test_a_start_script_can_still_be_run_after_it_was_written"),
    Fault("a rented machine shows another host key", "any", "refused, with what to do", SAME, "not known", f"{SFTP}::test_a_host_key_that_is_not_known_is_asked_about_and_a_changed_one_refused"),
    Fault("a start that fails passes itself on in the background", "`start`", "failed; all of it is ended and named", SAME, "down, and said", "test_background::test_a_process_that_ends_while_the_keeper_looks_hides_none_that_it_has_left"),
    Fault("the demo gets SIGTERM or SIGHUP", "any", "its servers are stopped", SAME, DOWN, "test_demo_ended::test_a_demo_that_is_ended_leaves_nothing_running"),
)  # fmt: skip


def page() -> str:
    """Return the text of the page."""
    lines = [
        "# Faults, and what becomes of them",
        "",
        "Each row is held by a test that makes the fault happen to the real program and a real process. Written by",
        "`python tests/faults/table.py`. Beyond these, `tests/faults/random_kills.py` ends rounds, keepers, recoveries,",
        "commands and servers at random instants and looks whether every file is whole and the server up afterwards.",
        "",
        "| fault | moment | outcome | files | server |",
        "|---|---|---|---|---|",
        *(f"| {row.fault} | {row.moment} | {row.outcome} | {row.files} | {row.server} |" for row in ROWS),
    ]
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    PAGE.write_text(page(), "utf-8")
