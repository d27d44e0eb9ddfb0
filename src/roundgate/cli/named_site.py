"""The site that the call names. A module of its own, so that naming it loads nothing."""

from __future__ import annotations

SITE_NAMED: str | None = None
"""The folder behind ``--site``, else what ROUNDGATE_SITE says; None where neither is given."""
