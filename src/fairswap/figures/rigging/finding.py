"""Places of joints, and the table of them while they are being found."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from fairswap.figures.rigging.reading import ShapeReading
from fairswap.model.arrays import Floats

GIVEN = "given"
# Where the last bones end: no roles, but places as theirs.
ENDS = ("crown", "hand_tip_left", "hand_tip_right", "toe_tip_left", "toe_tip_right")


@dataclass(frozen=True, eq=False)
class Place:
    """Where the joint of a role is, metres; ``certainty`` is 0..1, ``found_by`` says in words by what."""

    role: str
    position: Floats
    certainty: float
    found_by: str

    def __repr__(self) -> str:
        x, y, z = self.position.tolist()
        return f"<Place {self.role}: {x:.3f}, {y:.3f}, {z:.3f}, {self.certainty:.2f} sure, by {self.found_by}>"


class PlacesFound:
    """The places while they are being found; given ones are never moved."""

    def __init__(self, reading: ShapeReading, given: Mapping[str, Floats]) -> None:
        self.reading, self.solid = reading, reading.solid
        self.height, self.floor = reading.height, reading.floor
        self.given = given
        self.places: dict[str, Place] = {
            role: Place(role, np.asarray(at, dtype=np.float64), 1.0, GIVEN) for role, at in given.items()
        }

    def at(self, role: str) -> Floats:
        return self.places[role].position

    def put(self, role: str, position: Floats, certainty: float, found_by: str) -> None:
        if role not in self.places:
            self.places[role] = Place(role, np.asarray(position, dtype=np.float64), certainty, found_by)

    def even_out(self) -> None:
        """Bring the two sides together: each place to the mean of it and its twin's mirror image."""
        mirror, shift = np.array([-1.0, 1.0, 1.0]), np.array([2.0 * self.reading.middle, 0.0, 0.0])
        for name in [name for name in self.places if name.endswith("_left")]:
            twin = f"{name.removesuffix('left')}right"
            if twin not in self.places or GIVEN in (self.places[name].found_by, self.places[twin].found_by):
                continue
            left, right = self.places[name], self.places[twin]
            share = left.certainty**2 / max(left.certainty**2 + right.certainty**2, 1e-9)
            mean = share * left.position + (1.0 - share) * (right.position * mirror + shift)
            surer = left if left.certainty >= right.certainty else right
            self.places[name] = Place(name, mean, surer.certainty, surer.found_by)
            self.places[twin] = Place(twin, mean * mirror + shift, surer.certainty, surer.found_by)

    def both(self, part: str) -> Floats:
        """The middle between the two sides of a part."""
        return 0.5 * (self.at(f"{part}_left") + self.at(f"{part}_right"))
