"""The main outputs are as they were kept: a change of one is seen in the diff of `tests/golden/`."""

import pytest

from .golden import KEPT, SHOWN, pages

ANEW = "read the difference, then: python -m tests.golden"


@pytest.fixture(scope="module")
def now(tmp_path_factory, volumes):
    return dict(pages(tmp_path_factory.mktemp("golden"), volumes / "ext4-nocsum.img"))


@pytest.mark.parametrize("name", SHOWN)
def test_an_output_is_as_it_was_kept(now, name):
    assert now[name] == (KEPT / f"{name}.txt").read_text("utf-8"), ANEW
