"""Tests that share a sound server, or a study that takes long to make, run on one worker, one after the other."""

from __future__ import annotations

import os

import pytest


@pytest.mark.xdist_group("groups")
def test_groups_are_in_force(request):
    """A version of pytest that the workers' plugin does not know lets go of the groups without a word."""
    assert "PYTEST_XDIST_WORKER" not in os.environ or request.node.nodeid.endswith("@groups")
