"""Reference poses as the command line names what is done with them: measure, set, save."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from fairswap.bones.choice import with_one_person
from fairswap.bones.profile import BoneProfile
from fairswap.errors import Finding
from fairswap.formats.files import document_of, save_to
from fairswap.formats.outputs import Outputs
from fairswap.model.document import Document
from fairswap.model.figure import Figure
from fairswap.pose.choice import AUTO, REST, PoseChoice, pose_named
from fairswap.pose.measuring import PartVerdict, RoleAngle, measure_pose, pose_findings, pose_part_of, verdicts
from fairswap.pose.rigged import RiggedFigure
from fairswap.pose.saved import SavedPose
from fairswap.pose.setting import Rested, posed_as, skeleton_resting_in, with_rest
from fairswap.wording import counted

if TYPE_CHECKING:
    import pandas


@dataclass(frozen=True, eq=False)
class PoseMeasurement:
    """How far the reference pose of a figure is from another's, or from the neutral T: joint by joint.

    >>> import fairswap
    >>> fairswap.pose.measure(fairswap.demo_file("juniper.glb"))
    <PoseMeasurement of 'Juniper' against the neutral T: hands 4°, fingers 4°>
    """

    rigged: RiggedFigure
    against: RiggedFigure | None
    angles: tuple[RoleAngle, ...]

    @property
    def parts(self) -> list[PartVerdict]:
        """A verdict for each body part."""
        return verdicts(self.angles)

    @property
    def findings(self) -> list[Finding]:
        """A warning for parts that are so far apart that a bone may be a wrong one."""
        names = [each.figure.name for each in (self.rigged, self.against) if each is not None]
        return pose_findings(self.angles, " and ".join(names))

    def table(self) -> pandas.DataFrame:
        """The joints as a pandas table."""
        import pandas

        return pandas.DataFrame([asdict(row) for row in self.angles])

    def __repr__(self) -> str:
        apart = [f"{part.part} {part.degrees:.0f}°" for part in self.parts if part.state != "same"]
        against = "the neutral T" if self.against is None else repr(self.against.figure.name)
        return f"<PoseMeasurement of {self.rigged.figure.name!r} against {against}: {', '.join(apart) or 'alike'}>"


@dataclass(frozen=True, eq=False)
class RestedFigure:
    """A figure with another rest pose, in the document it came in; ``rested`` tells what that cost.

    >>> import fairswap
    >>> fairswap.pose.set(fairswap.demo_file("pip.glb"), "t")
    <RestedFigure 'Pip': 16 bones turned>
    """

    document: Document
    rigged: RiggedFigure
    rested: Rested

    def save(self, out: str | Path, *, force: bool = False) -> list[str]:
        """Write the figure with its clips; give the names of the files.

        Raises
        ------
        OutputError
            If a file is there already or cannot be written.
        """
        return self.write(Path(out), Outputs(self.document.files, force))

    def write(self, out: Path, outputs: Outputs) -> list[str]:
        """As :meth:`save`, among other outputs of the same run."""
        return save_to(outputs, out, self.rested.figure, self.rested.clips)

    def __repr__(self) -> str:
        return f"<RestedFigure {self.rested.figure.name!r}: {counted(len(self.rested.moved_degrees), 'bone')} turned>"


def measure(
    what: RiggedFigure | Figure | Document | str | Path,
    against: RiggedFigure | Figure | Document | str | Path | None = None,
    *,
    bones: BoneProfile | str | Path | None = None,
    against_bones: BoneProfile | str | Path | None = None,
    reference: PoseChoice | str = AUTO,
    against_reference: PoseChoice | str = AUTO,
) -> PoseMeasurement:
    """Measure a reference pose, joint by joint, in degrees: from the neutral T, or from another figure's pose.

    >>> import fairswap
    >>> fairswap.pose.measure(fairswap.demo_file("juniper.glb"))
    <PoseMeasurement of 'Juniper' against the neutral T: hands 4°, fingers 4°>

    Raises
    ------
    ImpossibleError
        If the bones of one are not known.
    """
    a = RiggedFigure.of(what, bones=bones, reference=reference, part="source")
    b = None
    if against is not None:
        b = RiggedFigure.of(against, bones=against_bones, reference=against_reference, part="target")
    return PoseMeasurement(a, b, tuple(measure_pose(a, b)))


def set(  # as the command line names it
    what: Document | Figure | str | Path, to: PoseChoice | str, *, clip: str | None = None, skin: str = "auto",
    bones: BoneProfile | str | Path | None = None,
) -> RestedFigure:  # fmt: skip
    """Give a figure another rest pose; all its clips look as before.

    >>> import fairswap
    >>> fairswap.pose.set(fairswap.demo_file("juniper.glb"), "a:60")
    <RestedFigure 'Juniper': 14 bones turned>

    Parameters
    ----------
    to : PoseChoice or str
        ``t``, ``a``, ``a:DEGREES``, ``frame:N``, ``time:S``, ``rest``, a saved pose (``.toml``), or a file.
    clip : str, optional
        The clip that frames and times are of; without, the first.
    skin : str
        ``bind`` meshes to the new rest, ``keep`` them bound as they are, or ``auto``: bind those bound at rest.

    Raises
    ------
    UsageError
        For a pose that there is not.
    ImpossibleError
        If the bones are not known.
    """
    document = with_one_person(document_of(what))
    rigged = _rigged(document, bones, clip)
    choice = pose_named(to)
    skeleton = skeleton_resting_in(rigged, choice, rigged.clip)
    bound = "bind" if choice.kind == REST.kind and skin == "auto" else skin
    rested = with_rest(rigged.figure, document.clips_of(rigged.figure), skeleton, bound)
    return RestedFigure(document, rigged, rested)


def save(
    what: Document | Figure | str | Path, pose: PoseChoice | str = REST, *, clip: str | None = None,
    parts: Sequence[str] = (), name: str = "", bones: BoneProfile | str | Path | None = None,
) -> SavedPose:  # fmt: skip
    """A pose of a figure by role, as turns away from the neutral T: to be written, set, or given as a reference.

    >>> import fairswap
    >>> fairswap.pose.save(fairswap.demo_file("pip.glb"), parts=["arms"])
    <SavedPose 'Pip': 4 joints turned away from the T>

    Parameters
    ----------
    parts : sequence of str
        Only these: arms, hands, fingers, legs, feet, trunk, head.
    """
    rigged = _rigged(document_of(what), bones, clip)
    posed = posed_as(rigged, pose_named(pose), rigged.clip)
    turns = {role: turn for role, turn in posed.items() if not parts or pose_part_of(role) in parts}
    return SavedPose.from_rotations(name or rigged.figure.name, turns)


def _rigged(document: Document, bones: BoneProfile | str | Path | None, clip: str | None) -> RiggedFigure:
    return RiggedFigure.of(document, bones=bones, clip=document.clip(clip) if clip else None)
