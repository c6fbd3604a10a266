"""One motion in many animations, each of one bone, as some exporters write it: put together again."""

from __future__ import annotations

import copy
import re
from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from itertools import takewhile

from fairswap.errors import Finding
from fairswap.formats.gltf.container import Container
from fairswap.formats.gltf.nodes import Tree
from fairswap.formats.gltf.schema import Animation
from fairswap.wording import counted, listed

# Fewer animations than this are clips: a hand that waves, a jaw that chews.
_FEWEST, _LEAST_SHARED = 6, 3
# What animations are called that have no name of their own.
_GENERIC = re.compile(r"(anim(ation)?s?|actions?|takes?|clips?|layers?|base|tracks?|\W|_|\d)*", re.IGNORECASE)


def container_with_joined_pieces(container: Container, tree: Tree) -> tuple[Container, list[Finding]]:
    """The document with the pieces of each motion as one animation.

    Pieces are animations of one node each, on nodes that hang one below another, as a body's bones do: what moves
    several props, each by itself, stays as it is. Where the nodes have several each, the first of all nodes are one
    motion, and so are the second.
    """
    motions = [motion for group in _alike(container) for motion in _motions(container, tree, group)]
    if not motions:
        return container, []
    raw = copy.deepcopy(container.raw)
    rows, findings = list(raw["animations"]), []
    gone: set[int] = set()
    for pieces in motions:
        first, *rest = pieces
        names = [name for index in pieces if (name := container.document.animations[index].name)]
        name = _name_of_all(container, pieces)
        rows[first] = _together([rows[index] for index in pieces])
        rows[first].pop("name", None)
        rows[first] |= {"name": name} if name else {}
        gone.update(rest)
        called = f" ({listed(names, 3)})" if names else ""
        message = f"{counted(len(pieces), 'animation')} of one bone each{called} are read as one clip"
        findings.append(Finding("pieces-joined", "note", name or container.path.stem, message))
    raw["animations"] = [row for index, row in enumerate(rows) if index not in gone]
    return container.changed(raw), findings


def _node_of(animation: Animation) -> int | None:
    """The node that an animation moves, if it moves only one; none for a broken one, which is told later."""
    nodes = {channel.target.node for channel in animation.channels}
    broken = any(channel.sampler >= len(animation.samplers) for channel in animation.channels)
    return nodes.pop() if len(nodes) == 1 and not broken else None


def _alike(container: Container) -> list[list[int]]:
    """The animations of one node each, by what their names say beside its name."""
    groups: dict[str, list[int]] = defaultdict(list)
    for index, animation in enumerate(container.document.animations):
        node = _node_of(animation)
        if node is not None and node < len(container.document.nodes):
            groups[_own_words(animation.name, container.document.nodes[node].name)].append(index)
    # Bones may have been renamed since: then it is how their names begin or end that they have in common.
    few = [index for group in groups.values() if len(group) < _FEWEST for index in group]
    names = [container.document.animations[index].name for index in few]
    shared = max(_letters_shared(names), _letters_shared([name[::-1] for name in names]))
    large = [group for group in groups.values() if len(group) >= _FEWEST]
    return [*large, few] if shared >= _LEAST_SHARED else large


def _own_words(name: str, node: str) -> str:
    """What is left of an animation's name without its node's, and without what says nothing."""
    rest = name.replace(node, "", 1) if node and node in name else "" if _GENERIC.fullmatch(name) else name
    rest = rest.strip(" _-.|:/0123456789")
    return "" if _GENERIC.fullmatch(rest) else rest


def _letters_shared(names: Sequence[str]) -> int:
    """How many letters all names begin with."""
    same = takewhile(lambda letters: len(set(letters)) == 1, zip(*names, strict=False))
    return sum(letters[0].isalpha() for letters in same)


def _motions(container: Container, tree: Tree, group: Sequence[int]) -> list[list[int]]:
    """The pieces of each motion of a group; none if they are none."""
    animations = container.document.animations
    turn: Counter[tuple[int | None, str]] = Counter()
    motions: dict[int, list[int]] = defaultdict(list)
    for index in group:
        targets = [(channel.target.node, channel.target.path) for channel in animations[index].channels]
        number = max(turn[target] for target in targets)
        motions[number].append(index)
        for target in targets:
            turn[target] = number + 1
    each = [motion for motion in motions.values() if len(motion) >= _FEWEST]
    if len({len(motion) for motion in each}) != 1:  # none, or nobody knows which piece belongs to which
        return []
    nodes = {node for index in each[0] if (node := _node_of(animations[index])) is not None}
    carried: set[int] = set()
    for node in tree.order:  # parents first
        if tree.parents[node] in nodes or tree.parents[node] in carried:
            carried.add(node)
    return each if 2 * len(carried & nodes) > len(nodes) else []


def _name_of_all(container: Container, pieces: Sequence[int]) -> str:
    """The words that the names of the pieces share, if they say something."""
    document = container.document
    animation = document.animations[pieces[0]]
    words = _own_words(animation.name, document.nodes[_node_of(animation) or 0].name)
    return words if all(words in document.animations[index].name for index in pieces) else ""


def _together(rows: Sequence[Mapping[str, list[dict[str, int]]]]) -> dict[str, list[dict[str, int]]]:
    """One animation with the channels and samplers of all."""
    whole: dict[str, list[dict[str, int]]] = {**rows[0], "channels": [], "samplers": []}
    for row in rows:
        start = len(whole["samplers"])
        whole["samplers"] += row["samplers"]
        whole["channels"] += [{**channel, "sampler": channel["sampler"] + start} for channel in row["channels"]]
    return whole
