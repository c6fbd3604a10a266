import gc
import os
import tempfile
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager

import pytest

# Tests run side by side: each on one core.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
# What the user of this machine has saved is not ours, also where many tests share what is made.
_HOME = tempfile.TemporaryDirectory(prefix="fairswap-home-")
os.environ["FAIRSWAP_HOME"] = _HOME.name


@pytest.fixture(autouse=True)
def _in_a_folder_of_its_own(tmp_path, monkeypatch):
    """Commands write where they stand: each test stands in an empty folder."""
    monkeypatch.chdir(tmp_path)
    monkeypatch.setenv("FAIRSWAP_HOME", str(tmp_path / "fairswap-home"))


_DRAWN_FINE = [
    f"fairswap.picture.{name}"
    for name in ("framing", "face_sheet", "rig_sheet", "cutting_sheet", "loss_sheet", "pose_sheet")
]


@contextmanager
def drawn(fine: int) -> Iterator[None]:
    """Figures are drawn so many times their size and made small: twice for users."""
    with pytest.MonkeyPatch.context() as patch:
        for module in _DRAWN_FINE:
            patch.setattr(f"{module}._FINE", fine)
        yield


@pytest.fixture(scope="session", autouse=True)
def _drawn_coarse():
    """As they are: smooth edges are a tenth of the time that all tests take. ``fine_pictures`` has them."""
    with drawn(1):
        yield


@pytest.fixture(scope="module")
def fine_pictures():
    """Pictures as users get them."""
    with drawn(2):
        yield


# What these make once for many tests takes longest (the full example, a figure dressed, a browser). Each worker begins
# with a half of all tests, and later takes from the end of what the other still has: what comes first is made by one.
_FIRST = (
    "test_street.py", "test_front_door.py", "test_plans.py", "test_rigging.py", "test_dressing.py", "test_reducing.py",
    "test_view.py",
)  # fmt: skip


def pytest_addoption(parser):
    parser.addoption("--long", choices=("without", "only", "with"), default="without",
                     help="what is marked as long: left out, run alone, or run with all the others")  # fmt: skip


def pytest_configure(config):
    config.addinivalue_line(
        "markers", "long(but=0): takes long, so left to 'make test-long', but for the first so many of its cases"
    )


@pytest.hookimpl(trylast=True)
def pytest_collection_modifyitems(config, items):
    """What takes long is a part of its own: many builds of one thing, whole examples, clusters, kills, browsers.

    Of a test with many cases the first ``but`` are among the short ones.
    """
    items.sort(key=lambda item: item.path.name not in _FIRST)
    wanted = config.getoption("--long")
    if wanted == "with":
        return
    seen, parts = Counter(), {"without": [], "only": []}
    for item in items:
        mark, test = item.get_closest_marker("long"), (item.path, item.originalname)
        seen[test] += 1
        parts["without" if mark is None or seen[test] <= mark.kwargs.get("but", 0) else "only"].append(item)
    items[:] = parts.pop(wanted)
    config.hook.pytest_deselected(items=[item for rest in parts.values() for item in rest])


def pytest_collection_finish(session):
    """What is imported by now stays: the collector need not go through it again and again (1 % of the time)."""
    gc.collect()
    gc.freeze()


def need(tool: str, present: bool) -> None:
    """Skip without a judge, but never on CI: there it is an error not to have it."""
    if present:
        return
    if os.environ.get("CI") == "true":
        pytest.fail(f"{tool} must be there when CI=true; .ci/run installs it")
    pytest.skip(f"{tool} is not on this machine")
