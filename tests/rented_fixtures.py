"""Fixtures for rented servers: by FTP with habits, by SFTP over a real OpenSSH server, or one of both."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from conftest import SiteUnderTest
from rented_site import REQUESTS, RentedPlace
from sshd import SSHD, Sshd

ADDRESS = 'folder = "sftp://files.saltmarsh.example{home}"\nssh-config = "ssh.conf"\naddress = "127.0.0.1"\n'
Make = Callable[..., RentedPlace]


@pytest.fixture
def rented(site: SiteUnderTest, tmp_path: Path) -> Iterator[Make]:
    """Make a place whose files go by FTP, with these habits."""
    made: list[RentedPlace] = []

    def make(driver: str = REQUESTS, **habits: Any) -> RentedPlace:
        made.append(RentedPlace(site, tmp_path, driver, **habits))
        return made[-1]

    yield make
    for place in made:
        place.close()


@pytest.fixture
def sshd(tmp_path: Path) -> Iterator[Sshd]:
    made = Sshd(tmp_path / "sshd")
    yield made
    made.stop()


@pytest.fixture
def place(site: SiteUnderTest, sshd: Sshd, tmp_path: Path) -> Iterator[RentedPlace]:
    """A rented server of the site, whose host key is known to nobody."""
    (site.folder / "ssh.conf").write_text(sshd.configuration())
    made = RentedPlace(site, tmp_path, REQUESTS, address=ADDRESS)
    yield made
    made.close()


@pytest.fixture
def known(place: RentedPlace, sshd: Sshd) -> RentedPlace:
    """The same, with its host key known."""
    sshd.make_known()
    return place


@pytest.fixture(params=["ftps", "sftp"])
def either(request: pytest.FixtureRequest) -> RentedPlace:
    """A place whose files go by FTP with TLS, or by SFTP."""
    if request.param == "ftps":
        make: Make = request.getfixturevalue("rented")
        return make(tls=True)
    if SSHD is None:
        pytest.skip("NO SSHD IS INSTALLED: nothing of SFTP is tested")
    found: RentedPlace = request.getfixturevalue("known")
    return found
