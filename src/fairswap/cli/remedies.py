"""What to do about errors and findings, in the words of the command line; {names} are facts."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from fairswap.errors import FairSwapError, Finding

if TYPE_CHECKING:
    from fairswap.platform.checking import RuleResult

_PROFILE = "Draft a profile ('fairswap bones draft FILE -o P.toml'), correct it, and pass it with {option} P.toml"
_OPTIONS = {"source": "--source-bones", "target": "--target-bones", "result": "--target-bones"}

REMEDIES = {
    "bone-unsure": "Say so with --say if it is wrong",
    "bones-guessed": "Look at them with 'fairswap bones show', correct them in a profile ('bones draft')",
    "bones-unknown": _PROFILE,
    "bones-unsure": _PROFILE,
    "no-person": "Motion of people is carried over. To try it all the same, draft a profile ('fairswap bones draft "
    "FILE -o P.toml') and pass it with {option} P.toml",
    "clutter": "'fairswap fit' writes the figure alone",
    "correction-large": "See whether it is the right bone ('fairswap bones show'), and look at it "
    "('fairswap pose measure')",
    "expressions-held": "Draft from it: fairswap face draft FILE --clip NAME -o F.toml",
    "clothes-cut": "'fairswap dress FIGURE -o OUT' pushes it out; --hide takes away the skin below what is left",
    "does-not-fit": "fairswap fit {file} --platform {platform} -o OUT",
    "does-not-loop": "fairswap clip loop FILE -o OUT",
    "exists": "Pass --force to replace it, or give another name",
    "face-none": "Take a figure with a face; if none is wanted, say so with --face none",
    "face-lost": "'fairswap face match' shows what each shape becomes",
    "face-bones-unread": "Give a chart in which these poses have a meaning ('fairswap face draft FILE --clip NAME "
    "-o F.toml'): --source-face F.toml",
    "face-bones-left-out": "Give their places by hand: --place jaw=X,Y,Z",
    "front-unsure": "If that is its back, say --forward",
    "joints-stretched": "Look at it with --picture; mend the clip where it was made",
    "limbs-missing": "Give the place of its end, as --place hand_left=X,Y,Z; or part what touches (arms from the body)",
    "limbs-kept-apart": "--no-clear leaves them as they were carried over",
    "lead-in": "Convert with --lead-in drop, or take it off: fairswap clip trim FILE -o OUT",
    "gaps-filled": "Look at them with 'fairswap clip draw'",
    "garment-unknown": "Give the body they were made for: --made-for BODY",
    "height-wrong": "'fairswap inspect' shows its unit; read it with --unit if that is wrong, or size it with --height",
    "moves-other-bones": "Carry it over to the same figure first, with 'fairswap convert'",
    "no-face-moves": "'fairswap face draft' shows what it has",
    "no-figure": "If it holds a body: fairswap rig FILE -o FIGURE",
    "no-cycle": "Cut a cycle out by hand with 'clip cut'",
    "one-clip-only": "Pick one with --clip, or give a folder to get one file per clip",
    "places-unsure": "Look at them with --picture; give them by --place ROLE=X,Y,Z or --landmarks FILE",
    "profile-incomplete": "Correct it ('fairswap bones check' shows how), or leave {option} out to have bones found",
    "several-people": "Choose one with --figure NAME",
    "several-figures": "Take another with --figure NAME",
    "shape-contradicts": "Look at it with 'fairswap face show', or --say",
    "sides-swapped": "Exchange the sides in its bone profile ('fairswap bones draft', --say), or mirror the file back",
    "levels-of-detail": "Leave them out with --without MESH (fit, convert), or export one level only",
    "skin-apart": "Hang it on the body's bones before exporting, or leave it out; 'fairswap dress' puts on clothes "
    "from a file of their own",
    "skin-left-behind": "Bind that skin to the hips, or leave the travel there (--travel hips)",
    "skin-torn": "'fairswap view' shows it; weigh these vertices anew before exporting",
    "skin-off-bones": "'fairswap draw' shows it; bind the mesh to its skeleton anew before exporting",
    "space-corrected": "Use --unit and --up if this is wrong",
    "space-found": "Use --unit and --up if this is wrong",
    "space-guessed": "Use --unit and --up if this is wrong",
    "no-usd": 'Install it: pip install "fairswap[usd]"',
    "no-clothes": "Give a file with clothes in it, or say which of its meshes they are: --take MESH",
    "nothing-to-wear": "Name clothes: --with GARMENT",
    "trunk-bent": "If it is not built so, give a file or a pose of it that stands straight "
    "(--source-reference, --target-reference)",
    "vrm-bones": "Fit it to the standard: fairswap fit FILE --platform vrm-1 -o OUT.vrm",
    "vrm-meta": "Say it in a file (docs/formats.md has one to copy), and pass --meta FILE.toml",
    "wants-a-folder": "fairswap fit {file} --platform {platform} -o FOLDER",
    "table-again": "Write the table again with 'fairswap convert' or 'fairswap clip'",
}


class _Worded(Mapping[str, str]):
    """The remedies, each with the option that the facts mean."""

    def __init__(self, facts: Mapping[str, Any]) -> None:
        self.option = _OPTIONS.get(str(facts.get("part")), "--bones")

    def __getitem__(self, code: str) -> str:
        return REMEDIES[code].replace("{option}", self.option)

    def __iter__(self):  # type: ignore[no-untyped-def]
        return iter(REMEDIES)

    def __len__(self) -> int:
        return len(REMEDIES)


def worded_error(error: FairSwapError) -> str:
    """An error as the command line says it."""
    return error.worded(_Worded(error.facts))


def worded_remedy(finding: Finding) -> str:
    """What to do about a finding."""
    return finding.worded(_Worded(finding.facts))


def worded_rule(row: RuleResult) -> str:
    """What mends a broken rule."""
    return row.worded(_Worded(row.facts))
