"""What the documents say of the program is so: commands, codes of findings, public names, links."""

import ast
import json
import re
import shlex
import sys
from pathlib import Path

import click
import pytest

import fairswap
from fairswap.cli.main import command
from fairswap.cli.remedies import REMEDIES as ON_THE_COMMAND_LINE
from fairswap.errors import REMEDIES
from fairswap.findings import CAUSES, cause_of
from making import TROUPE, run

ROOT = Path(__file__).parent.parent
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md")), *sorted((ROOT / "docs" / "do").glob("*.md"))]
NOTEBOOKS = sorted((ROOT / "docs" / "notebooks").glob("*.ipynb"))


def lines_of(page):
    """The command lines that a page shows."""
    for block in re.findall(r"```(?:sh|bash)?\n(.*?)```", page.read_text(), re.DOTALL):
        for line in block.replace("\\\n", " ").splitlines():
            if line.lstrip("$ ").startswith("fairswap "):
                yield line.lstrip("$ ")


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.stem)
def test_every_command_line_that_is_shown_has_options_that_exist(page):
    for line in lines_of(page):
        words = shlex.split(line, comments=True)[1:]
        found = command
        while isinstance(found, click.Group):
            below = found.get_command(click.Context(found), words[0])
            assert below is not None, line
            found, words = below, words[1:]
        found.make_parser(click.Context(found)).parse_args([word for word in words if word not in ("…", "...")])


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.stem)
def test_every_link_leads_to_a_file(page):
    text = re.sub(r"```.*?```", "", page.read_text(), flags=re.DOTALL)
    for target in re.findall(r"\]\(([^)#\s]+)(?:#[^)]*)?\)", text):
        if not target.startswith(("http", "mailto")) and "_made/" not in target:
            assert (page.parent / target).exists(), target


@pytest.mark.long
def test_every_code_of_a_finding_or_error_is_explained():
    """By the source itself: what is raised or told with a code has a cause, and no cause is idle."""
    used = set(REMEDIES) | set(ON_THE_COMMAND_LINE)
    for path in (ROOT / "src").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Call):
                name = getattr(node.func, "id", getattr(node.func, "attr", ""))
                if name == "Finding" and node.args and isinstance(node.args[0], ast.Constant):
                    used.add(node.args[0].value)
                used |= {
                    word.value.value for word in node.keywords
                    if word.arg == "code" and isinstance(word.value, ast.Constant) and word.value.value
                }  # fmt: skip
    assert {code for codes in CAUSES.values() for code in codes} == used
    assert all(cause_of(code).endswith(".") for code in used)


def test_reports_show_the_code_of_each_finding():
    told = run("inspect", TROUPE / "osric.glb").stdout
    codes = re.findall(r"\[([a-z-]+)\]", told)
    assert codes
    assert all(cause_of(code) for code in codes)


def test_the_page_of_python_has_every_public_name(monkeypatch):
    monkeypatch.syspath_prepend(ROOT / "docs")
    sys.modules.pop("generated", None)
    import generated

    page = generated.api()
    for name in fairswap.__all__:
        value = getattr(fairswap, name)
        if not isinstance(value, type(fairswap)):
            assert re.search(rf"auto\w+:: fairswap\.{name}\n", page), name
            assert (value.__doc__ or "").strip(), name
    findings = generated.findings()
    assert all(f"### {code}\n" in findings for codes in CAUSES.values() for code in codes)
    assert not re.search(r"\{\w+(![rs])?\}", findings)  # no blank is left to fill in
    shown = generated.examples()
    for path in sorted((ROOT / "examples").glob("*.py")):
        assert path.read_text().split('"""\n', 1)[1].strip() in shown


@pytest.mark.parametrize("path", NOTEBOOKS, ids=lambda path: path.stem)
@pytest.mark.long(but=1)
def test_a_notebook_is_stored_without_results_and_its_cells_run(path):
    """The site runs them in a kernel; here their code runs, with what each cell would show shown as HTML."""
    notebook = json.loads(path.read_text())
    names: dict = {}
    for cell in notebook["cells"]:
        if cell["cell_type"] != "code":
            continue
        assert not cell["outputs"]
        body = ast.parse("".join(cell["source"]))
        last = body.body.pop() if body.body and isinstance(body.body[-1], ast.Expr) else None
        exec(compile(body, str(path), "exec"), names)
        if last is not None:
            shown = eval(compile(ast.Expression(last.value), str(path), "eval"), names)
            if type(shown).__module__.startswith("fairswap"):
                assert shown._repr_html_()


def test_values_show_themselves_as_tables():
    found = fairswap.check(TROUPE / "juniper.glb", "fernway")
    page = found._repr_html_()
    assert all(row.rule in page for row in found.broken)
    assert "fairswap.fit" in page
    fitted = fairswap.fit(TROUPE / "pip.glb", "quillmoor")
    assert all(change.rule in fitted._repr_html_() for change in fitted.changes)
    made = fairswap.convert(fairswap.demo_motion("idle"), TROUPE / "pip.glb")
    assert "looks the same" in made._repr_html_()


@pytest.mark.long
def test_long_work_shows_a_bar_in_a_notebook(monkeypatch):
    """The extension asks for it: a bar that goes on with every clip, and is gone at the end."""
    import IPython.display

    from fairswap.model.progress import show_progress_with
    from fairswap.picture.page.notebook import _bar

    shown = []

    class Handle:
        def update(self, html):
            shown.append(html.data)

    monkeypatch.setattr(IPython.display, "display", lambda html, display_id: shown.append(html.data) or Handle())
    show_progress_with(_bar)
    try:
        motions = [fairswap.demo_motion(name) for name in ("idle", "clap")]
        fairswap.convert(motions, TROUPE / "pip.glb", face=fairswap.FaceOptions("none"))
    finally:
        show_progress_with(None)
    assert [re.search(r"value=(\d)", row)[1] for row in shown[:-1]] == ["0", "1", "2"]
    assert shown[-1] == ""
    count = len(shown)
    # Outside of a cell there is nothing to draw in, and who gives a step of its own shows it otherwise.
    monkeypatch.setattr(IPython.display, "display", lambda html, display_id: None)
    show_progress_with(_bar)
    try:
        assert fairswap.convert(motions, TROUPE / "pip.glb", face=fairswap.FaceOptions("none")).done
        monkeypatch.setattr(IPython.display, "display", lambda html, display_id: pytest.fail("two bars"))
        steps = []
        fairswap.convert(motions, TROUPE / "pip.glb", face=fairswap.FaceOptions("none"), step=steps.append)
        assert len(steps) == 2
    finally:
        show_progress_with(None)
    fairswap.convert(motions, TROUPE / "pip.glb", face=fairswap.FaceOptions("none"))
    assert len(shown) == count
