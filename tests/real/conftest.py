"""The real servers run in a network of their own where root allows it."""

from __future__ import annotations

import pytest

from real_servers import leave_the_network


@pytest.fixture(scope="session")
def own_network() -> bool:
    """Return whether the tests of this process have a network of their own, with loopback only."""
    return leave_the_network()
