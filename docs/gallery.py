"""Make docs/screenshots anew from the demo: sheets, the page in a browser, commands in a terminal. ``make gallery``.

Needs Debian's chromium, xvfb, xterm and imagemagick. Look at every picture before it is committed.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from playwright.sync_api import sync_playwright

import fairswap

OUT = Path(__file__).parent / "screenshots"
STREET = "lantern-street"
# Sheets that the demo draws.
SHEETS = {
    "turn-and-bow": "osric-turn-and-bow.png", "walk": "juniper-walk.png",
    "spoken-line": "osric-spoken-line.png", "stages": "stages/gallery.png",
}  # fmt: skip
# Pictures that commands draw.
DRAWN = {
    "bones-show": "bones show {street}/osric.glb --picture {out}",
    "curves": "compare {street}/osric-walk.bvh {street}/juniper-walk.glb --curves {out}",
    "pose-measure": "pose measure {street}/osric.glb --against {street}/juniper.glb --picture {out}",
    "face-show": "face show {street}/juniper.glb -o {out}",
    "fit-loss": "fit {street}/juniper-walk.glb --platform fernway -o fitted.glb --picture {out}",
    "dress": "dress {street}/juniper.glb --with {street}/osric-coat.glb --with {street}/osric-boots.glb "
    "--made-for {street}/osric.glb --motion {street}/juniper-walk.glb -o dressed.glb --picture {out}",
    "rig": "rig {street}/osric.glb -o rigged.glb --picture {out}",
    "strip": "draw {street}/pip-leap.glb -o {out}",
}
# Commands as they look in a terminal: the columns, and what is typed.
TYPED = {
    "demo": (120, ["fairswap demo lantern-street"]),
    "inspect-convert": (124, [
        "fairswap inspect lantern-street/osric-walk.bvh",
        "fairswap convert lantern-street/osric-walk.bvh --onto lantern-street/juniper.glb -o walk.glb",
    ]),
    "compare": (96, ["fairswap compare lantern-street/osric-walk.bvh walk.glb"]),
    "clips": (116, [
        "fairswap clip cut lantern-street/osric-walk.bvh --piece step=0..2 --piece rest=2..4.5 -o pieces",
        "fairswap clip loop lantern-street/juniper-walk.glb -o cycle.glb",
        "fairswap clip thin cycle.glb --degrees 0.1 -o thin.glb",
    ]),
    "check-fit": (128, [
        "fairswap check lantern-street/juniper.glb --platform fernway",
        "fairswap fit lantern-street/juniper-walk.glb --platform fernway -o fits.glb",
    ]),
}  # fmt: skip
BROWSER = ["--no-sandbox", "--use-gl=angle", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--no-first-run",
           "--disable-background-networking"]  # fmt: skip


def typed(name: str, columns: int, commands: list[str]) -> None:
    """Commands typed in a terminal window under Xvfb, and a picture of it."""
    script = Path("typed.sh")
    rows = [f"printf '\\033[1;32m$\\033[0m %s\\n' {line!r}\n{line}" for line in commands]
    script.write_text("\n".join([*rows, "sleep 1", "import -window root raw.png"]))
    window = ["xterm", "-geometry", f"{columns}x90+0+0", "-fa", "DejaVu Sans Mono", "-fs", "10", "-bg", "#fbfaf7",
              "-fg", "#22222a", "-b", "12", "-e", "bash", str(script)]  # fmt: skip
    subprocess.run(["xvfb-run", "-a", "-s", "-screen 0 1280x1400x24", *window], check=True)
    # The screen around the window first, then the empty lines in it.
    trimmed = ["-trim", "+repage", "-trim", "+repage", "-bordercolor", "#fbfaf7", "-border", "12"]
    subprocess.run(["convert", "raw.png", *trimmed, str(OUT / f"{name}.png")], check=True)


def pages() -> None:
    """The page of a source and its results, at a moment that tells something; and the report of a run."""
    view = fairswap.view(f"{STREET}/osric-walk.bvh", f"{STREET}/juniper-walk.glb", f"{STREET}/pip-walk.glb")
    view.save("view.html", force=True)
    motions = [f"{STREET}/{name}" for name in ("osric-walk.bvh", "juniper-clap.bvh", "pip-idle.bvh")]
    figures = [f"--onto={STREET}/{name}.glb" for name in ("juniper", "osric", "pip")]
    drawn = ["--view", "each.html", "--picture", "each.png", "--quiet"]
    subprocess.run(["fairswap", "convert", *motions, *figures, "-o", "results", *drawn], check=False)
    with sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path=shutil.which("chromium"), args=BROWSER)
        shot = browser.new_page(viewport={"width": 1280, "height": 800})
        shot.goto(Path("view.html").absolute().as_uri())
        while not shot.evaluate("() => Boolean(window.player && window.player.drawn)"):
            shot.wait_for_timeout(100)
        shot.evaluate("() => { player.choose('hand_left'); player.seek(1.4); }")
        shot.wait_for_timeout(800)
        shot.screenshot(path=OUT / "view.png")
        shot.goto(Path("results/report.html").absolute().as_uri())
        shot.wait_for_timeout(500)
        shot.screenshot(path=OUT / "plan-report.png")
        browser.close()


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        os.chdir(folder)
        os.environ["PATH"] = f"{Path(sys.executable).parent}:{os.environ['PATH']}"
        for name, (columns, commands) in TYPED.items():
            typed(name, columns, commands)
        for name, file in SHEETS.items():
            shutil.copy(Path(STREET, file), OUT / f"{name}.png")
        for name, words in DRAWN.items():
            line = words.format(street=STREET, out=OUT / f"{name}.png")
            subprocess.run(["fairswap", *line.split(), "--force", "--quiet"], check=False)
        pages()


if __name__ == "__main__":
    main()
