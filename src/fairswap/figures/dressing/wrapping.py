"""A garment from the body it was made for onto another, both standing in the common T.

First limb by limb, as long and as thick; then, where the old body is known, as one skin lies on the other.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from fairswap.bones.roles import next_roles, side_of
from fairswap.figures.dressing.smoothing import smoothed
from fairswap.measure.nearness import Surface
from fairswap.model.arrays import Floats, Integers

# Skins are laid onto each other in so many steps, each letting them differ more from place to place.
_STEPS = (0.3, 1.0, 3.0, 10.0)
# Two places of skins are one only if they are no further apart than this, in heights, and face alike.
_FURTHEST, _FACING = 0.15, 0.3
# Cloth this far from the skin, in heights, follows it half as much as cloth that lies on it.
_LOOSE = 0.04
# No limb gets thicker or thinner by more than this.
_THINNEST, _THICKEST = 0.4, 2.5


@dataclass(frozen=True, eq=False)
class Form:
    """A body in the common T: where each role's joint is.

    If it has skin: that which clothes lie on, the whole body with what swings on it, and how much of each vertex goes
    with which role ``(n, roles)``.
    """

    joints: Mapping[str, Floats]
    skin: Surface | None = None
    body: Surface | None = None
    shares: Floats | None = None
    roles: tuple[str, ...] = ()

    def onward(self, role: str) -> Floats | None:
        """Where the bone of a role ends: at the next joint."""
        if role == "hips":
            following = ["spine_1", "neck_1", "head"]
        elif role.startswith(("spine_", "neck_")):
            kind, _, number = role.partition("_")
            following = [f"{kind}_{int(number) + 1}", *(["neck_1"] if kind == "spine" else []), "head"]
        else:
            following = next_roles(role)
        return next((self.joints[name] for name in following if name in self.joints), None)

    def girth(self, role: str) -> float | None:
        """How thick a limb is: the middle distance of its skin from its bone; None without skin there."""
        end = self.onward(role)
        if self.skin is None or self.shares is None or role not in self.roles or end is None:
            return None
        own = self.skin.vertices[self.shares[:, self.roles.index(role)] > 0.6]
        if len(own) < 12:
            return None
        along = end - self.joints[role]
        unit = along / max(float(np.linalg.norm(along)), 1e-9)
        offset = own - self.joints[role]
        return float(np.median(np.linalg.norm(offset - (offset @ unit)[:, None] * unit, axis=1)))

    def limb(self, kind: str) -> list[str]:
        """The roles of a chain, from below."""
        return sorted((r for r in self.joints if r.startswith(f"{kind}_")), key=lambda r: int(r.partition("_")[2]))


def limb_by_limb(
    old: Form, new: Form, points: Floats, shares: Floats, roles: tuple[str, ...]
) -> tuple[Floats, Floats]:  # fmt: skip
    """Points ``(n, 3)`` that go with ``roles`` by ``shares`` on the new form; the linear part at each ``(n, 3, 3)``.

    Along each bone they are stretched as the bone is longer, across it as the limb is thicker.
    """
    size = _size(old, new)
    linear, shift = np.zeros((len(roles), 3, 3)), np.zeros((len(roles), 3))
    for number, role in enumerate(roles):
        here, there = old.joints[role], _place(role, old, new)
        # Hips end where some rig begins its spine: that says nothing of a skirt that hangs on them.
        end, goal = None if role == "hips" else old.onward(role), None
        if end is not None:
            goal = _end(role, old, new)
        across = _across(role, old, new, size)
        matrix = np.diag(across)
        if end is not None and goal is not None:
            way, onto = end - here, goal - there
            length, wanted = float(np.linalg.norm(way)), float(np.linalg.norm(onto))
            if length > 1e-6 and wanted > 1e-6:
                unit = way / length
                longer = float(np.clip(wanted / length, _THINNEST * size, _THICKEST * size))
                matrix = matrix + (longer - float(unit @ matrix @ unit)) * np.outer(unit, unit)
        linear[number], shift[number] = matrix, there - matrix @ here
    turned = np.einsum("nr,rij->nij", shares, linear)
    return np.einsum("nij,nj->ni", turned, points) + shares @ shift, turned


def laid_on(old: Form, new: Form, points: Floats, triangles: Integers, bare: Floats) -> Floats:
    """Points on the new form ``(n, 3)`` shifted as its skin differs from the old one's, which was brought limb by limb
    to ``bare``; ``triangles`` are those of the points."""
    assert old.skin is not None
    assert new.skin is not None
    height = float(np.ptp(new.skin.vertices[:, 1]))
    start = Surface(bare, old.skin.triangles)
    moved = bare
    limbs = [_limb_of(form) for form in (old, new)]
    for step in _STEPS:
        there = Surface(moved, old.skin.triangles)
        found = new.skin.nearest(moved)
        alike = np.einsum("ni,ni->n", there.normals, found.normal) > _FACING
        apart = np.linalg.norm(found.place - moved, axis=1)
        limb = limbs[1][new.skin.triangles[found.triangle, 0]]
        trusted = np.where(alike & (apart < _FURTHEST * height) & (limb == limbs[0]), step, 0.0)
        moved = moved + smoothed(moved, old.skin.triangles, found.place - moved, trusted + 1e-4)
    found = start.nearest(points)
    shift = start.taken(moved - bare, found)
    apart = np.linalg.norm(found.place - points, axis=1) / (_LOOSE * height)
    return points + smoothed(points, triangles, shift, 3.0 / (1.0 + apart**2))


def _size(old: Form, new: Form) -> float:
    """How much larger the new form is, by the lengths of all bones that both have."""
    ways = []
    for form in (old, new):
        ends = {role: form.onward(role) for role in old.joints if role in new.joints}
        ways.append({role: float(np.linalg.norm(e - form.joints[role])) for role, e in ends.items() if e is not None})
    both = [role for role in ways[0] if role in ways[1] and ways[0][role] > 1e-6]
    return float(sum(ways[1][r] for r in both) / sum(ways[0][r] for r in both)) if both else 1.0


def _across(role: str, old: Form, new: Form, size: float) -> Floats:
    """How much thicker a limb is, along each axis: the trunk by how wide shoulders and hips are."""
    if role in ("hips", "root", "head", "jaw") or role.startswith(("spine_", "neck_", "shoulder_", "eye_")):
        pair = "upper_leg" if role in ("hips", "root") else "upper_arm"
        widths = [_width(form, pair) for form in (old, new)]
        if widths[0] and widths[1] and role not in ("head", "jaw") and not role.startswith(("neck_", "eye_")):
            wide = float(np.clip(widths[1] / widths[0], _THINNEST, _THICKEST))
            return np.array([wide, size, 0.5 * (wide + size)])
        return np.full(3, size)
    girths = old.girth(role), new.girth(role)
    if girths[0] and girths[1]:
        return np.full(3, float(np.clip(girths[1] / girths[0], _THINNEST, _THICKEST)))
    return np.full(3, size)


def _width(form: Form, pair: str) -> float:
    left, right = (form.joints.get(f"{pair}_{side}") for side in ("left", "right"))
    return float(np.linalg.norm(left - right)) if left is not None and right is not None else 0.0


def _place(role: str, old: Form, new: Form) -> Floats:
    """Where a role's joint is on the new form; of what that lacks, as far along the trunk, or with what carries it."""
    if role in new.joints:
        if not role.startswith(("spine_", "neck_")):
            return new.joints[role]
    elif not role.startswith(("spine_", "neck_")):
        side = side_of(role)
        base = role.removesuffix(f"_{side}")
        carrier = {"shoulder": f"upper_arm_{side}", "toes": f"foot_{side}", "jaw": "head", "eye": "head",
                   "root": "hips"}.get(base, f"hand_{side}")  # fmt: skip
        if carrier in new.joints and carrier in old.joints:
            return new.joints[carrier] + _size(old, new) * (old.joints[role] - old.joints[carrier])
        return old.joints[role]
    kind = role.partition("_")[0]
    return _on_chain(new, kind, _fraction(old, kind, old.joints[role]))


def _end(role: str, old: Form, new: Form) -> Floats | None:
    """Where the bone of a role ends on the new form."""
    if role.startswith(("spine_", "neck_")):
        kind = role.partition("_")[0]
        end = old.onward(role)
        return None if end is None else _on_chain(new, kind, _fraction(old, kind, end))
    return new.onward(role)


def _line(form: Form, kind: str) -> Floats:
    """The joints of the spine or the neck, up to where it ends."""
    chain = form.limb(kind)
    points = [form.joints[role] for role in chain]
    if chain:
        end = form.onward(chain[-1])
        points += [end] if end is not None else []
    elif kind == "spine":
        points = [form.joints["hips"]]
    return np.array(points)


def _fraction(form: Form, kind: str, place: Floats) -> float:
    line = _line(form, kind)
    low, high = float(line[0, 1]), float(line[-1, 1])
    return (float(place[1]) - low) / (high - low) if high - low > 1e-6 else 0.0


def _on_chain(form: Form, kind: str, fraction: float) -> Floats:
    line = _line(form, kind)
    if not len(line):
        return form.joints["head"]
    high = line[:, 1]
    at = high[0] + fraction * (high[-1] - high[0])
    return np.array([np.interp(at, high, line[:, axis]) if axis != 1 else at for axis in range(3)])


def _limb_of(form: Form) -> Integers:
    """For each vertex of the skin the number of its limb: trunk, each arm with its hand, each leg."""
    assert form.shares is not None

    def number(role: str) -> int:
        side = {"left": 1, "right": 2}.get(side_of(role), 0)
        if role.startswith(("upper_leg", "lower_leg", "foot", "toes")):
            return 2 + side
        return 0 if role.startswith(("shoulder", "eye")) else side

    return np.array([number(role) for role in form.roles])[np.argmax(form.shares, axis=1)]
