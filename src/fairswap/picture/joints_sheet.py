"""Every joint of a reel in its first move, at its full, seen from where it shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from fairswap.bones.roles import part_of, side_of
from fairswap.clips.proving import Move
from fairswap.jobs.proving import Reel
from fairswap.picture.framing import SHOTS, Frame, Panel, Staged
from fairswap.picture.paper import FAINT, INK, PAPER, byte, font, pen

if TYPE_CHECKING:
    from PIL.Image import Image

_TILE, _TALL, _WORDS, _COLUMNS, _HEAD = 150, 170, 36, 8, 56
# What is done ahead or back shows from the side.
_FROM_THE_SIDE = ("bend", "forward", "nod", "point")


def joints_image(reel: Reel, title: str) -> Image:
    """A picture of each joint of the body in its first move, with its role and what it does."""
    from PIL import Image as Images

    moves = list({move.role: move for move in reversed(reel.moves)}.values())[::-1]
    rows = -(-len(moves) // _COLUMNS)
    sheet = Images.new("RGB", (_COLUMNS * _TILE, _HEAD + rows * (_TALL + _WORDS)), byte(PAPER))
    draw = pen(sheet)
    draw.text((16, 14), title, font=font(24), fill=INK)
    for panels in (
        {_panel_of(move) for move in moves if bool(_panel_of(move).roles) == near} for near in (False, True)
    ):
        # Whole figures have one scale, hands and faces each their own.
        for group in [panels] if not any(panel.roles for panel in panels) else [{panel} for panel in panels]:
            shown = [number for number, move in enumerate(moves) if _panel_of(move) in group]
            # A move goes one way, and then the other: at a quarter of its time it is furthest.
            times = np.array([0.75 * moves[number].start_s + 0.25 * moves[number].stop_s for number in shown])
            staged = Staged.of(reel.rigged.figure, reel.clip, times, reel.rigged)
            frame = Frame.around([staged], sorted(group), _TILE, _TALL)
            cells = ((staged, instant, _panel_of(moves[number]), PAPER) for instant, number in enumerate(shown))
            for instant, (number, picture) in enumerate(zip(shown, frame.pictures(cells), strict=True)):
                x, y = (number % _COLUMNS) * _TILE, _HEAD + (number // _COLUMNS) * (_TALL + _WORDS)
                sheet.paste(picture, (x, y))
                role = moves[number].role.replace("_", " ")
                draw.text((x + _TILE // 2, y + _TALL), role, font=font(12), fill=INK, anchor="ma")
                said = f"{moves[number].name}, {times[instant]:.1f} s"
                draw.text((x + _TILE // 2, y + _TALL + 15), said, font=font(11), fill=FAINT, anchor="ma")
    return sheet


def _panel_of(move: Move) -> Panel:
    """From where a move shows: hands and faces near, the rest of the body whole."""
    side = side_of(move.role)
    if part_of(move.role) == "hands" or move.role.startswith("hand_"):
        return next(panel for panel in SHOTS["hands"] if panel.roles == (f"hand_{side}",))
    if part_of(move.role) == "face":
        return SHOTS["face"][0]
    return SHOTS["full"][move.name.startswith(_FROM_THE_SIDE)]
