import os

import pytest


@pytest.fixture(autouse=True)
def _in_a_folder_of_its_own(tmp_path, monkeypatch):
    """Commands write where they stand: each test stands in an empty folder."""
    monkeypatch.chdir(tmp_path)
    # What the user of this machine has saved is not ours.
    monkeypatch.setenv("FAIRSWAP_HOME", str(tmp_path / "fairswap-home"))


def need(tool: str, present: bool) -> None:
    """Skip without a judge, but never on CI: there it is an error not to have it."""
    if present:
        return
    if os.environ.get("CI") == "true":
        pytest.fail(f"{tool} must be there when CI=true; .ci/run installs it")
    pytest.skip(f"{tool} is not on this machine")


def pytest_itemcollected(item):
    """The full example is run once: all tests that look at it go to one worker, the other does not wait for it."""
    if "street" in getattr(item, "fixturenames", ()):
        item.add_marker(pytest.mark.xdist_group("street"))
