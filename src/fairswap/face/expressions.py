"""The expressions of VRM 1.0, in face units: what an avatar's file says its morphs are."""

from __future__ import annotations

from collections import Counter

from fairswap.face.chart import FaceChart, Shape
from fairswap.face.guessing import ShapeGuess, best_word
from fairswap.face.words import shape_name
from fairswap.model.figure import Figure

# The standard's presets (VRM 1.0, expressions): moods by their names, mouth shapes by their vowels. Relaxed is
# described there as calm and content: half of a smile, lids a little down.
PRESET_UNITS: dict[str, dict[str, float]] = {
    "happy": {"joy": 1.0},
    "angry": {"anger": 1.0},
    "sad": {"sadness": 1.0},
    "relaxed": {"lip_corner_puller": 0.4, "eye_closure": 0.3},
    "surprised": {"surprise": 1.0},
    "aa": {"viseme_a": 1.0},
    "ih": {"viseme_i": 1.0},
    "ou": {"viseme_u": 1.0},
    "ee": {"viseme_e": 1.0},
    "oh": {"viseme_o": 1.0},
    "blink": {"eye_closure": 1.0},
    "blinkLeft": {"eye_closure_left": 1.0},
    "blinkRight": {"eye_closure_right": 1.0},
    "lookUp": {"gaze_up": 1.0},
    "lookDown": {"gaze_down": 1.0},
    "lookLeft": {"gaze_out_left": 1.0, "gaze_in_right": 1.0},
    "lookRight": {"gaze_in_left": 1.0, "gaze_out_right": 1.0},
}

# A name of somebody's own counts from this on.
_CLEAR = 0.5


def expressions_chart() -> FaceChart:
    """The standard's expressions as the shapes of a face, but for where the eyes look: they show that themselves."""
    names = [name for name in PRESET_UNITS if not name.startswith("look")]
    return FaceChart("expressions", {name: Shape(name, PRESET_UNITS[name]) for name in names})


def said_by_avatar(figure: Figure) -> dict[str, ShapeGuess]:
    """What the file itself says of shapes: of morphs that are one expression by themselves, and of the bones that stand
    for expressions in a motion without a face."""
    avatar = figure.avatar
    if avatar is None:
        return {}
    out: dict[str, ShapeGuess] = {}
    alone = {
        name: one.morphs[0]
        for name, one in avatar.expressions.items()
        if one.preset and name in PRESET_UNITS and len({morph for _, morph, _ in one.morphs}) == 1
    }
    shared = Counter(morph for _, morph, _ in alone.values())
    for name, (_, morph, weight) in alone.items():
        if shared[morph] == 1 and weight > 0.0:
            units = {unit: share / weight for unit, share in PRESET_UNITS[name].items()}
            out[morph] = ShapeGuess(Shape(morph, units), 1.0, (f"the file says that it is the expression {name!r}",))
    for name, bone in avatar.controls.items():
        words = shape_name(name).scores
        named = {best_word(name): 1.0} if words and max(words.values()) >= _CLEAR else {}
        units = PRESET_UNITS.get(name, named)
        if units:
            node = figure.skeleton.names[bone]
            shape = Shape(f"{node}.left", units, control=(node, 0))
            out[shape.name] = ShapeGuess(shape, 1.0, (f"the file says that it is how much of {name!r} there is",))
    return out
