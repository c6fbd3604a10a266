"""The JSON Schema of all reports, made from their types: ``python -m fairswap.cli.schemas`` prints it."""

from __future__ import annotations

import ast
import inspect
from importlib import import_module
from types import ModuleType
from typing import Any

# What ``--json`` prints, by command.
REPORTS = {
    "demo": "demo:DemoReport",
    "inspect": "inspect:InspectReport",
    "convert": "convert_reports:ConvertReport",
    "compare": "compare:CompareReport",
    "view": "view:ViewReport",
    "draw": "draw:DrawReport",
    "check": "check:CheckReport",
    "fit": "fit:FitReport",
    "rig": "rig:RigReport",
    "dress": "dress:DressReport",
    "reel": "reel:ReelReport",
    "pose measure": "pose:PoseMeasureReport",
    "pose set": "pose:PoseSetReport",
    "pose save": "pose:PoseSaveReport",
    "bones draft": "bones_reports:BonesDraftReport",
    "bones check": "bones_reports:BonesCheckReport",
    "bones match": "bones_reports:BonesMatchReport",
    "bones merge": "bones_reports:BonesMergeReport",
    "bones list": "bones_reports:BonesListReport",
    "bones show FILE": "bones_reports:BonesShowReport",
    "bones show P": "bones_reports:ProfileReport",
    "platform new": "platform:PlatformNewReport",
    "platform list": "platform:PlatformListReport",
    "platform show": "platform:PlatformShowReport",
    "face draft": "face:FaceDraftReport",
    "face check": "face:FaceCheckReport",
    "face match": "face:FaceMatchReport",
    "face show": "face:FaceShowReport",
    "face apply": "face:FaceApplyReport",
    **{f"clip {verb}": "clip_reports:ClipChangeReport"
       for verb in ("rename", "trim", "layer", "mirror", "speed", "reverse", "rate", "thin --every-frame")},
    "clip cut": "clip_reports:ClipCutReport",
    "clip drop": "clip_reports:ClipDropReport",
    "clip join": "clip_reports:ClipJoinReport",
    "clip join --separate": "clip_reports:ClipPlaceReport",
    "clip blend": "clip_reports:ClipBlendReport",
    "clip place": "clip_reports:ClipPlaceReport",
    "clip loop": "clip_reports:ClipLoopReport",
    "clip thin": "clip_reports:ClipThinReport",
    "clip clean": "clip_reports:ClipCleanReport",
    "clip describe": "clip_reports:ClipDescribeReport",
    "clip draw": "clip_reports:ClipDrawReport",
    "plan new": "plan_reports:PlanNewReport",
    "plan check": "plan_reports:PlanCheckReport",
    "plan run": "plan_reports:PlanRunReport",
    "plan status": "plan_reports:PlanStatusReport",
    "convert --onto --onto": "plan_reports:PlanRunReport",
    "clip mirror FOLDER": "many:ManyReport",
}  # fmt: skip


def reports_schema() -> dict[str, Any]:
    """A JSON Schema (draft 2020-12) whose properties are the commands, each with its report."""
    import msgspec

    homes = {words: home.split(":") for words, home in REPORTS.items()}
    for module in {"reports", *(module for module, _ in homes.values())}:
        _name_types_in(import_module(f"fairswap.cli.{module}"))
    types = {words: getattr(import_module(f"fairswap.cli.{module}"), name) for words, (module, name) in homes.items()}
    rows, parts = msgspec.json.schema_components(tuple(types.values()), ref_template="#/$defs/{name}")
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Reports of fairswap, as printed with --json, by command",
        "properties": dict(zip(types, rows, strict=True)),
        "$defs": {name: _described(part) for name, part in sorted(parts.items())},
    }


def _name_types_in(module: ModuleType) -> None:
    """Import what a module imports for type checkers alone.

    Types of the core stand in reports as words, so that ``--help`` need not load the core; a schema wants them.
    """
    for node in ast.parse(inspect.getsource(module)).body:
        if isinstance(node, ast.If) and ast.unparse(node.test) == "TYPE_CHECKING":
            exec(compile(ast.Module(node.body, []), str(module.__file__), "exec"), vars(module))


def _described(part: dict[str, Any]) -> dict[str, Any]:
    """A part of a schema with its docstring as one line of words: no examples, no breaks of ours (nor of msgspec's)."""
    if "description" not in part:
        return part
    return {**part, "description": " ".join(part["description"].split(">>>")[0].split())}


if __name__ == "__main__":
    import json

    print(json.dumps(reports_schema(), indent=1, ensure_ascii=False))
