"""What a run came to, to be read: a table, the same as CSV, and a page with a thumbnail of each result.

What needs eyes first stands first: what failed, then by score. Nothing in them says when or by whom a result was made,
so that the same results give the same report.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence
from html import escape
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from fairswap.formats.naming import in_unicode, visible
from fairswap.plans.results import Result, Run

if TYPE_CHECKING:
    import pandas

# Under this folder of results the thumbnails are.
THUMBNAILS = "report"
COLUMNS = (
    "result", "clip", "source", "figure", "platform", "state", "score", "verdict", "worst_part", "because", "seconds",
    "limbs_mean_degrees", "hips_mean_percent", "slide_cm_s", "sole_below_cm", "jerk_ratio", "fits", "faults",
    "findings", "error",
)  # fmt: skip


def in_order(results: Iterable[Result]) -> list[Result]:
    """What needs eyes first at the top."""

    def rank(result: Result) -> tuple[Any, ...]:
        likeness = result.measures.likeness if result.measures else 0.0
        return result.state in ("done", "edited"), result.ok, likeness, result.task.result

    return sorted(results, key=rank)


def table_of(run: Run) -> pandas.DataFrame:
    """A row for each result of a run."""
    import pandas

    return pandas.DataFrame(_rows(run), columns=list(COLUMNS))


def csv_of(run: Run) -> bytes:
    """The table as CSV; files that could not be used are its first rows."""
    text = io.StringIO()
    out = csv.writer(text, lineterminator="\n")
    out.writerow(COLUMNS)
    for missing in run.missing:
        row = dict.fromkeys(COLUMNS, "") | {"source": missing.file, "state": "missing", "error": missing.problem}
        out.writerow([_cell(value) for value in row.values()])
    out.writerows([_cell(value) for value in row] for row in _rows(run))
    return in_unicode(text.getvalue()).encode()


def _rows(run: Run) -> list[tuple[Any, ...]]:
    rows = []
    for result in in_order(run.results):
        task, record = result.task, result.record
        found = result.measures
        told = "; ".join(row.message for row in record.findings if row.severity != "note") if record else ""
        measured = (
            (found.likeness, found.verdict, found.worst_part, found.because, round(found.seconds, 3),
             found.limbs_mean_degrees, found.hips_mean_percent, found.slide_cm_s, found.sole_below_cm,
             found.jerk_ratio, found.fits)
            if found else (None,) * 11
        )  # fmt: skip
        rows.append((
            task.result, task.clip, Path(task.source.path).name, Path(task.figure.path).name,
            Path(task.platform).stem, result.state, *measured, "; ".join(result.faults), told,
            record.error if record else "",
        ))  # fmt: skip
    return rows


def _cell(value: Any) -> Any:
    """A cell that no spreadsheet takes for a formula."""
    if value is None:
        return ""
    return f"'{value}" if isinstance(value, str) and value[:1] in ("=", "+", "-", "@", "\t", "\r") else value


def page_of(run: Run) -> bytes:
    """The report as a page: links and thumbnails are beside it, and nothing in it runs."""
    ordered = in_order(run.results)
    failed = sum(not result.ok for result in ordered) + len(run.missing)
    title = Path(run.plan.file).stem if run.plan.from_file else run.folder.absolute().name
    head = f"{len(ordered)} results, {failed} that need eyes" if failed else f"{len(ordered)} results, all well"
    missing = "".join(
        f'<tr class="bad"><td></td><td>{_text(Path(row.file).name)}</td><td colspan="7">{_text(row.problem)}</td></tr>'
        for row in run.missing
    )
    body = missing + "".join(_row_of(result, run.folder) for result in ordered)
    names = (
        "",
        "result",
        "from, onto, for",
        "of 100",
        "worst part",
        "slide cm/s",
        "below floor cm",
        "jerk",
        "to look at",
    )
    columns = "".join(f"<th>{name}</th>" for name in names)
    return _PAGE.format(title=_text(title), head=_text(head), columns=columns, body=body).encode()


def _row_of(result: Result, folder: Path) -> str:
    task, record = result.task, result.record
    found = result.measures
    files = [row.name for row in record.files] if record else []
    thumb = next((name for name in files if name.startswith(f"{THUMBNAILS}/")), "")
    image = f'<img src="{_link(thumb)}" alt="" loading="lazy" width="72" height="90">' if thumb else ""
    links = " ".join(f'<a href="{_link(name)}">{_text(word)}</a>' for name, word in _linked(files))
    made_of = f"{Path(task.source.path).name} · {Path(task.figure.path).stem}"
    if task.platform:
        fits = "" if found is None or found.fits is None else " (fits)" if found.fits else " (does not fit)"
        made_of += f" · {Path(task.platform).stem}{fits}"
    told = [*result.faults, *(row.message for row in record.findings if row.severity != "note")] if record else []
    if record and record.error:
        told = [record.error]
    elif result.state not in ("done", "failed"):
        told = [_STATES[result.state], *told]
    cells = [
        image, f"<b>{_text(task.result)}</b><br>{links}", _text(made_of),
        _score(found.likeness) if found else _text(result.state), _text(_part(found)),
        *((f"{value:.1f}" for value in (found.slide_cm_s, found.sole_below_cm)) if found else ("", "")),
        f"{found.jerk_ratio:.2f}" if found else "", "<br>".join(map(_text, dict.fromkeys(told))),
    ]  # fmt: skip
    kind = "bad" if not result.ok else "good"
    return f'<tr class="{kind}">' + "".join(f"<td>{cell}</td>" for cell in cells) + "</tr>\n"


_STATES = {
    "edited": "changed by hand since it was made: left as it is",
    "in the way": "another file has this name: left as it is",
    "not begun": "not begun yet",
}


def _part(found: Any) -> str:
    return f"{found.worst_part}: {found.because}".replace("_", " ") if found and found.likeness < 99.5 else ""


def _score(score: float) -> str:
    """A number over a bar: told by length, too."""
    return f'{score:.0f}<svg width="60" height="6"><rect width="{0.6 * score:.0f}" height="6"/></svg>'


def _linked(files: Sequence[str]) -> list[tuple[str, str]]:
    words = {".html": "play", ".png": "sheet"}
    shown = [name for name in files if not name.startswith(f"{THUMBNAILS}/")]
    return [(name, words.get(Path(name).suffix, Path(name).suffix.removeprefix("."))) for name in shown]


def _link(name: str) -> str:
    return escape(quote(name))


def _text(text: str) -> str:
    return escape(visible(in_unicode(text)))


_PAGE = """<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; img-src 'self' file:;
style-src 'unsafe-inline'">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{title}</title>
<style>
body {{ margin: 20px 28px; background: #f6f4ef; color: #26262c; font: 14px/1.4 system-ui, sans-serif; }}
h1 {{ font-size: 22px; margin: 0 0 2px; }} p {{ margin: 0 0 14px; color: #6b6862; }}
table {{ border-collapse: collapse; width: 100%; }}
th {{ text-align: left; font-weight: 600; color: #6b6862; position: sticky; top: 0; background: #f6f4ef; }}
th, td {{ padding: 4px 10px 4px 0; border-bottom: 1px solid #dcd7cc; vertical-align: middle; }}
tr.bad td:first-child {{ border-left: 4px solid #b3261e; padding-left: 8px; }}
tr.good td:first-child {{ border-left: 4px solid transparent; padding-left: 8px; }}
td:nth-child(2) {{ overflow-wrap: anywhere; }}
td:nth-child(n+6):nth-child(-n+8), th:nth-child(n+6):nth-child(-n+8) {{ text-align: right; }}
svg {{ display: block; background: #e4e0d6; }} rect {{ fill: #1f6bc7; }} tr.bad rect {{ fill: #b3261e; }}
a {{ color: #1f6bc7; margin-right: 6px; }} img {{ display: block; }}
</style>
</head>
<body>
<h1>{title}</h1>
<p>{head}; what needs eyes first stands first.</p>
<table><thead><tr>{columns}</tr></thead><tbody>
{body}</tbody></table>
</body>
</html>
"""
