"""The documentation site: ``make docs`` writes it to docs-out/, with every warning an error."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE))

import fairswap  # noqa: E402
import generated  # noqa: E402  (beside this file)

project, author = "Fair Swap", "the Fair Swap developers"
release = version = fairswap.__version__
extensions = [
    "myst_nb", "sphinx.ext.autodoc", "sphinx.ext.napoleon", "sphinx_click", "sphinx_copybutton",
]  # fmt: skip
exclude_patterns = ["_made/README.md", "**.ipynb_checkpoints"]
html_theme, html_title = "furo", "Fair Swap"
html_static_path = ["static"]
html_css_files = ["site.css"]
html_extra_path = ["reports.schema.json"]
templates_path: list[str] = []

myst_enable_extensions = ["colon_fence", "deflist", "fieldlist"]
myst_heading_anchors = 4
nb_execution_mode = "force"
nb_execution_timeout = 120
nb_execution_raise_on_error = True
nb_merge_streams = True

autodoc_member_order = "bysource"
autodoc_typehints = "none"  # the docstrings say shapes and units, which types do not
napoleon_google_docstring = False
napoleon_use_ivar = True
napoleon_use_rtype = False
copybutton_prompt_text = r">>> |\.\.\. |\$ "
copybutton_prompt_is_regexp = True
linkcheck_ignore = [r"https?://.*"]  # the site is built, and checked, without a network
# Types in docstrings are words for people: "figure" is no cross-reference.
suppress_warnings = ["config.cache", "ref.python"]

generated.write(HERE / "_made")


def setup(app: Any) -> None:
    """Stars in the help of commands are patterns, not emphasis."""

    def escaped(_: Any, __: Any, lines: list[str]) -> None:
        lines[:] = [line.replace("*", r"\*") for line in lines]

    for part in ("options", "epilog", "description"):
        app.connect(f"sphinx-click-process-{part}", escaped)
