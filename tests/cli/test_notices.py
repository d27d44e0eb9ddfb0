"""Notices, to real HTTP and mail servers: each event once, nothing held up, no secret shown."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import SiteUnderTest, change_keepers, wait_for
from peers import Hook, Post, talking
from ports import free_port
from roundgate.core.notices.model import Notice, NoticeEvent
from roundgate.host.notices.outbox import put, start_sender
from roundgate.host.site import read_site


@pytest.fixture
def hook() -> Iterator[Hook]:
    hook = Hook()
    yield hook
    hook.close()


def told(site: SiteUnderTest, table: str) -> None:
    with (site.folder / "roundgate.toml").open("a") as file:
        file.write(f"\n{table}\n")


def webhook(site: SiteUnderTest, url: str, more: str = "", name: str = "club") -> None:
    told(site, f'[notices.webhook.{name}]\nurl = "{url}"\npause = "1s"\n{more}')


def last(site: SiteUnderTest, name: str = "club") -> dict[str, object]:
    rows = json.loads(site.ok("notices", "--json"))
    return next(row["last"] or {} for row in rows if row["name"] == name)


def test_a_round_tells_that_it_is_planned_that_the_server_goes_down_and_that_it_is_up(
    site: SiteUnderTest, hook: Hook
) -> None:
    site.add("regatta")
    body = '{ event = "{event}", text = "{server} / {message}", took = "{took-seconds}", deep = [{ n = "{round}" }] }'
    webhook(site, hook.url, f"body = {body}\nheaders = {{ X-Key = '{{secret.key}}' }}")
    secrets = site.folder / "secrets.toml"
    secrets.write_text('key = "lee-shore-77"\n')
    secrets.chmod(0o600)
    told(site, '[notices]\nsecrets = "secrets.toml"')
    site.ok("start")
    wait_for(lambda: hook.events() == ["up-again"], 20)
    site.ok("set", "race.slots=20")
    site.ok("apply", "--yes", "--countdown", "1s", "--reason", 'a "longer" race')
    wait_for(lambda: len(hook.got) == 4, 20)
    assert hook.events() == ["up-again", "planned", "going-down", "up-again"]
    planned, down, up = hook.bodies[1:]
    assert planned["text"] == 'regatta / regatta restarts in 1s: a "longer" race.' and planned["deep"] == [{"n": 2}]
    assert down["text"] == 'regatta / regatta goes down now: a "longer" race.', "nobody knows yet how long that takes"
    assert isinstance(up["took"], int) and up["took"] < 20 and "regatta is up again after " in up["text"]
    assert all(headers["x-key"] == "lee-shore-77" for _, headers, _ in hook.got)
    site.ok("restart")
    site.ok("stop")
    wait_for(lambda: len(hook.got) == 7, 20)
    assert hook.bodies[4]["text"].startswith("regatta / regatta goes down now. It should be back in ")
    assert hook.bodies[6]["text"] == "regatta / regatta goes down now. It stays down."
    shown = site.ok("notices") + site.ok("notices", "--json")
    state = b"".join(path.read_bytes() for path in (site.folder / ".roundgate").rglob("*") if path.is_file())
    assert "lee-shore-77" not in shown and b"lee-shore-77" not in state
    assert "going-down of regatta: delivered" in shown


def test_what_is_called_off_and_what_is_put_back_is_told(site: SiteUnderTest, hook: Hook) -> None:
    site.add("regatta")
    webhook(site, hook.url)
    site.ok("start")
    later = time.strftime("%H:%M", time.localtime(time.time() + 7200))
    site.ok("set", "race.slots=20")
    with subprocess.Popen(
        [sys.executable, "-m", "roundgate", "apply", "regatta", "--yes", "--at", later],
        cwd=site.folder,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    ):
        wait_for(lambda: "planned" in hook.events(), 30)
        site.ok("rounds", "cancel")
    wait_for(lambda: "called-off" in hook.events(), 20)
    assert hook.events() == ["up-again", "planned", "called-off"]
    assert f"restarts at {later}." in hook.bodies[1]["message"] and "was called off" in hook.bodies[2]["message"]
    site.ok("discard", "regatta")
    properties = site.folder / "regatta" / "gullwind.properties"
    right = properties.read_text()
    properties.write_text(f"{right}boat.slots=4000\n")
    site.fails(1, "restart")
    properties.write_text(right)
    assert len(hook.got) == 3, "of what was refused before anybody heard of it, nobody is told"
    (site.folder / "regatta" / "sea-trials.txt").write_text("die-at-start\n")
    site.fails(3, "restart")
    wait_for(lambda: len(hook.got) == 5, 20)
    assert hook.events()[3:] == ["going-down", "failed"]
    assert "DOES NOT COME UP" in hook.bodies[4]["message"]


def test_a_change_that_is_put_back_is_told_without_its_secret(site: SiteUnderTest, hook: Hook) -> None:
    """The start script prints the new code as a failure, so it is the reason of the rewind."""
    home = site.add("regatta", "boat.slots=16\n")
    script = (home / "launch.sh").read_text()
    words = "sed -n 's/^entry.code=[0-9]/ERROR in config: &/p' gullwind.properties\n"
    (home / "launch.sh").write_text(script.replace("exec ", words + "exec "))
    webhook(site, hook.url)
    site.ok("start")
    site.ok("set", "entry.code", given="48151623\n")
    site.fails(3, "apply", "--yes", "--reason", "the code is 48151623")
    wait_for(lambda: len(hook.got) == 3, 20)
    assert hook.events() == ["up-again", "going-down", "rewound"]
    assert hook.bodies[1]["message"].startswith("regatta goes down now: the code is (hidden).")
    assert "as it was: a change was not proven and was put back" in hook.bodies[2]["message"]
    assert "48151623" not in json.dumps(hook.bodies)


def test_a_backup_that_fails_is_told(site: SiteUnderTest, hook: Hook) -> None:
    site.add("regatta")
    webhook(site, hook.url, 'on = ["backup-failed"]')
    site.ok("start")
    site.ok("stop")
    shutil.rmtree(site.folder / "regatta" / "saves")
    site.fails(1, "backup", "make", "regatta")
    wait_for(lambda: last(site).get("event") == "backup-failed", 20)
    assert hook.events() == ["backup-failed"], "and nothing of the start and the stop"
    assert hook.bodies[0]["message"].startswith("No backup of regatta was made: ")


def test_a_crash_and_giving_up_are_told_by_the_keeper(
    site: SiteUnderTest, hook: Hook, monkeypatch: pytest.MonkeyPatch
) -> None:
    change_keepers(site, monkeypatch, PAUSES=(0.1, 0.1, 0.1))
    site.add("regatta")
    webhook(site, hook.url, 'on = ["crashed", "gave-up", "up-again"]')
    site.ok("start")
    wait_for(lambda: hook.events() == ["up-again"], 20)
    process = site.server_process("regatta")
    assert process is not None
    os.kill(process, signal.SIGKILL)
    wait_for(lambda: hook.events() == ["up-again", "crashed", "up-again"], 30)
    assert hook.bodies[1]["message"] == "regatta crashed: it ended by SIGKILL. It is started again."
    assert hook.bodies[2]["message"] == "regatta is up again after it had crashed."
    (site.folder / "regatta" / "courses.txt").write_text("")  # it cannot start with that
    process = site.server_process("regatta")
    assert process is not None
    os.kill(process, signal.SIGKILL)
    wait_for(lambda: "gave-up" in hook.events(), 90)
    assert "crashed too often and is down" in hook.bodies[-1]["message"]


@pytest.mark.parametrize(
    ("answers", "words"),
    [
        ((500, 503, 204), "taken at try 3"),
        ((500,), "it answers 500; tried 3 times"),
        ((302,), "it answers 302 and names another address; write that one into the site file"),
        ((404,), "it answers 404"),
        ((429, 200), "taken at try 2"),
    ],
)
def test_what_a_webhook_answers(site: SiteUnderTest, answers: tuple[int, ...], words: str) -> None:
    hook = Hook(answers)
    site.add("regatta")
    webhook(site, hook.url, "tries = 3")
    is_taken = words.startswith("taken")
    output = site.ok("notices", "test") if is_taken else site.fails(1, "notices", "test")
    assert f"club: {'delivered' if is_taken else 'NOT DELIVERED'} ({words})" in output
    paths = [path for path, _, _ in hook.got]
    assert set(paths) == {"/hook"}, "a redirect is not followed"
    assert len(paths) == {"it answers 500; tried 3 times": 3}.get(words, len(answers))
    if len(paths) == 3:
        assert hook.times[1] - hook.times[0] >= 0.99 and hook.times[2] - hook.times[1] >= 2.99, "each pause is longer"
    hook.close()


def test_a_webhook_that_never_answers_holds_up_neither_round_nor_others(site: SiteUnderTest, hook: Hook) -> None:
    deaf = Hook((0,))
    site.add("regatta")
    webhook(site, deaf.url, 'within = "30s"\ntries = 1', name="deaf")
    webhook(site, hook.url)
    site.ok("start")
    site.ok("set", "race.slots=20")
    site.ok("apply", "--yes")
    assert deaf.silent.wait(20)
    wait_for(lambda: hook.events() == ["up-again", "going-down", "up-again"], 20)
    assert len(deaf.got) == 1, "it is still at the first one"
    deaf.close()


@pytest.mark.parametrize(
    ("reply", "close", "words"),
    [
        (b"", False, "no answer within 1s"),
        (b"SSH-2.0-x\r\n", True, "the answer is not HTTP, or the connection was closed"),
        (b"", True, "the connection was closed"),
    ],
    ids=["silent", "no-http", "hangs-up"],
)
def test_a_webhook_that_is_none(site: SiteUnderTest, reply: bytes, close: bool, words: str) -> None:
    site.add("regatta")
    with talking(reply, close=close, reads=close) as port:  # unread bytes would break the connection in place of an end
        webhook(site, f"http://127.0.0.1:{port}/", 'tries = 1\nwithin = "1s"')
        output = site.fails(1, "notices", "test", "club")
        assert "club: NOT DELIVERED" in output and words in output
    webhook(site, f"http://127.0.0.1:{free_port()}/", "tries = 1", name="gone")
    assert "gone: NOT DELIVERED (the connection is refused" in site.fails(1, "notices", "test", "gone")


def test_many_at_once_arrive_each_once_and_in_order(site: SiteUnderTest, hook: Hook) -> None:
    site.add("regatta")
    webhook(site, hook.url, 'body = { event = "{event}", n = "{round}" }')
    home = read_site(site.folder)
    for number in range(1, 13):
        assert put(home, Notice(NoticeEvent.CRASHED, "x", "regatta", round=number), ["club"])
        start_sender(home)  # a dozen senders: one of them does the work, and nothing is left over
    wait_for(lambda: len(hook.got) >= 12, 40)
    wait_for(lambda: not list((home.state / "outbox" / "club").glob("*.json")), 20)
    assert [body["n"] for body in hook.bodies] == list(range(1, 13))


def test_one_that_waited_too_long_and_one_that_is_damaged_are_dropped(site: SiteUnderTest, hook: Hook) -> None:
    site.add("regatta")
    webhook(site, hook.url)
    home = read_site(site.folder)
    put(home, Notice(NoticeEvent.CRASHED, "long ago", "regatta", at=time.time() - 7 * 3600), ["club"])
    (home.state / "outbox" / "club" / "5.json").write_text("{")
    put(home, Notice(NoticeEvent.CRASHED, "just now", "regatta"), ["club"])
    start_sender(home)
    wait_for(lambda: len(hook.got) == 1, 20)
    assert hook.bodies[0]["message"] == "just now"
    wait_for(lambda: last(site).get("done") is True, 20)
    assert not list((home.state / "outbox" / "club").glob("*.json"))


# --- mail ---


def mail(
    site: SiteUnderTest, port: int, more: str = 'security = "none"', to: str = "committee@saltmarsh.example"
) -> None:
    told(
        site,
        f'[notices.mail.board]\nhost = "127.0.0.1"\nport = {port}\nfrom = "roundgate@saltmarsh.example"\n'
        f'to = ["{to}"]\ntries = 2\npause = "1s"\nwithin = "10s"\n{more}',
    )


def test_a_mail_is_taken_and_a_field_cannot_begin_a_header(site: SiteUnderTest, tmp_path: Path) -> None:
    post = Post(tmp_path / "post")
    site.add("regatta")
    mail(site, post.port, 'security = "none"\nsubject = "{server}: {reason}"')
    home = read_site(site.folder)
    reason = "gale\r\nBcc: all@saltmarsh.example\r\n\r\nhello"
    put(home, Notice(NoticeEvent.GOING_DOWN, "regatta goes down now.", "regatta", reason=reason), ["board"])
    start_sender(home)
    wait_for(lambda: len(post.mails()) == 1, 30)
    [got] = post.mails()
    assert got["Subject"] == "regatta: gale Bcc: all@saltmarsh.example hello" and got["Bcc"] is None
    assert got["To"] == "committee@saltmarsh.example" and "regatta goes down now." in str(got.get_payload())
    post.close()


@pytest.mark.parametrize(
    ("to", "words"),
    [
        ("nobody@saltmarsh.example", "it takes no mail for nobody@saltmarsh.example"),
        ("full@saltmarsh.example", "it takes no mail for full@saltmarsh.example; tried 2 times"),
    ],
)
def test_a_mailbox_that_refuses(site: SiteUnderTest, tmp_path: Path, to: str, words: str) -> None:
    post = Post(tmp_path / "post")
    site.add("regatta")
    mail(site, post.port, to=to)
    assert f"board: NOT DELIVERED ({words})" in site.fails(1, "notices", "test")
    post.close()


def test_a_mail_server_that_is_none(site: SiteUnderTest) -> None:
    site.add("regatta")
    with talking(b"554 go away\r\n", close=True) as port:
        mail(site, port)
        assert "board: NOT DELIVERED (it answers 554)" in site.fails(1, "notices", "test")


@pytest.mark.skipif(shutil.which("openssl") is None, reason="makes a certificate with openssl")
def test_mail_by_starttls_with_a_password(site: SiteUnderTest, tmp_path: Path) -> None:
    cert, key = str(site.folder / "ca.pem"), str(tmp_path / "key.pem")
    subprocess.run(
        "openssl req -x509 -newkey rsa:2048 -nodes -days 2 -subj /CN=127.0.0.1 -addext subjectAltName=IP:127.0.0.1"
        f" -keyout {key} -out {cert}".split(),
        check=True,
        capture_output=True,
    )
    post = Post(tmp_path / "post", cert=cert, key=key, password="lee-shore-77")
    site.add("regatta")
    mail(site, post.port, 'ca = "ca.pem"\nuser = "club"\npassword = "{secret.mail}"')
    env = {"ROUNDGATE_SECRET_MAIL": "lee-shore-77"}
    done = site.run("notices", "test", env=env)
    assert done.returncode == 0 and "board: delivered" in done.stdout, done.stdout + done.stderr
    assert "This is a test" in str(post.mails()[0].get_payload())
    wrong = site.run("notices", "test", env={"ROUNDGATE_SECRET_MAIL": "weather-shore"})
    assert wrong.returncode == 1 and "it does not know club with that password" in wrong.stdout
    assert "weather-shore" not in wrong.stdout + wrong.stderr
    assert "There is no secret 'mail'" in site.fails(1, "notices", "test")
    text = (site.folder / "roundgate.toml").read_text()
    (site.folder / "roundgate.toml").write_text(text.replace('ca = "ca.pem"\n', ""))
    untrusted = site.run("notices", "test", env=env)
    assert "its certificate is not trusted" in untrusted.stdout and len(post.mails()) == 1
    post.close()


def test_a_file_of_secrets_that_others_can_read_is_not_used(site: SiteUnderTest, hook: Hook) -> None:
    site.add("regatta")
    webhook(site, f"{hook.url}/{{secret.hook}}", "tries = 1")
    told(site, '[notices]\nsecrets = "secrets.toml"')
    path = site.folder / "secrets.toml"
    assert "secrets.toml cannot be read" in site.fails(1, "notices", "test")
    path.write_text('hook = "lee-shore-77"\n')
    path.chmod(0o644)
    assert "secrets.toml can be read by others, so it is not used" in site.fails(1, "notices", "test")
    assert not hook.got
    path.chmod(0o600)
    assert "lee-shore-77" not in site.ok("notices", "test") + site.ok("notices")
    assert hook.got[0][0] == "/hook/lee-shore-77"


@pytest.mark.parametrize(
    ("table", "words"),
    [
        ('[notices.webhook.a]\nurl = "ftp://x"', "the url begins with neither http:// nor https://"),
        (
            '[notices.webhook.a]\nurl = "http://x"\non = ["restarted"]',
            "'restarted' is not an event that notices are sent for",
        ),
        ('[notices.webhook.a]\nurl = "http://x"\nbody = { t = "{serverr}" }', "no notice has a field 'serverr'"),
        ('[notices.webhook.a]\nurl = "http://x"\nservers = ["regata"]', "there is no server 'regata'"),
        ('[notices.webhook.a]\nurl = "http://x"\nwithin = "soon"', "'soon' as 'within' is not a time"),
        ('[notices.webhook.a]\nurl = "http://x"\ntries = 0', "there can be 1 to 20 tries"),
        ('[notices.webhook.a]\nlink = "http://x"', "unknown field `link`"),
        ('[notices.mail.a]\nhost = "x"\nfrom = "a@b"\nto = ["c"]', "'c' is not an address"),
        (
            '[notices.mail.a]\nhost = "x"\nfrom = "a@b"\nto = ["c@d"]\nsecurity = "ssl"',
            "'ssl' is not a kind of security",
        ),
        (
            '[notices.mail.a]\nhost = "x"\nfrom = "a@b"\nto = ["c@d"]\npassword = "p"',
            "is never in the site file itself",
        ),
        (
            '[notices.mail.a]\nhost = "x"\nfrom = "a@b"\nto = ["c@d"]\nsecurity = "none"\npassword = "{secret.p}"',
            "a password would be sent in the clear",
        ),
        (
            '[notices.webhook.a]\nurl = "http://x"\n[notices.mail.a]\nhost = "x"\nfrom = "a@b"\nto = ["c@d"]',
            "has 'a' as a webhook and as a mail",
        ),
    ],
)
def test_wrong_tables_are_told(site: SiteUnderTest, table: str, words: str) -> None:
    site.add("regatta")
    told(site, table)
    assert words in site.fails(1, "notices")


def test_a_test_goes_to_everybody_whatever_they_want_to_hear_of(site: SiteUnderTest, hook: Hook) -> None:
    site.add("regatta")
    webhook(site, hook.url, 'on = ["crashed"]')
    site.ok("start")
    site.ok("notices", "test")
    wait_for(lambda: bool(hook.got), 20)
    site.ok("stop")
    assert hook.events() == ["test"], "of the start and the stop it hears nothing"
