"""What of two figures may go below the floor beside the bones that both have: fingers, and clothes."""

from __future__ import annotations

from fairswap.bones.roles import SIDES, side_of
from fairswap.measure.turning import Pair
from fairswap.pose.rigged import RiggedFigure


def added_fingers(pair: Pair, roles: list[tuple[str, str]]) -> tuple[dict[int, list[int]], dict[int, list[int]]]:
    """By the row of their hand, the bones of fingers that only the result has: they go into the floor with it; before
    them, those of all of that hand of the source, which may do so, too."""
    theirs, mine = {}, {}
    for row, (role, _) in enumerate(roles):
        if role.startswith("hand_"):
            hands = [rigged.roles.hand(side_of(role)) for rigged in pair]
            added = [pair[1].roles.bones[finger] for finger in hands[1] if finger not in pair[0].roles.bones]
            if added:
                theirs[row], mine[row] = [pair[0].roles.bones[finger] for finger in hands[0]], added
    return theirs, mine


def garments_of(rigged: RiggedFigure) -> list[int]:
    """Extra bones that hang on the trunk or a limb, feet left out, and are above the floor when the figure rests."""
    skeleton, roles = rigged.skeleton, rigged.role_of_bone
    feet = {rigged.roles.bones[f"foot_{side}"] for side in SIDES}
    resting = rigged.reference_world.positions[0, :, 1]
    found = []
    for bone in range(len(skeleton)):
        above = skeleton.with_ancestors([bone])[:-1]
        if bone not in roles and feet.isdisjoint(above) and any(other in roles for other in above):
            found.append(bone)
    return [bone for bone in found if resting[bone] > rigged.floor_m]
