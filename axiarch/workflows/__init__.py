"""What a user does, one verb a file: the public Python interface, and all that both front ends
call.

    from pathlib import Path
    from axiarch import workflows as ax

    workspace = ax.open_workspace(Path("my-work"), create=True)
    data = ax.add_table(workspace, Path("hives.csv"), target="state")
    search = ax.new_search(data, vary={"learning_rate": "1e-4 .. 1e-1 log"}, recipes=20)
    number = ax.start_search(workspace, search)
    result = ax.wait(workspace, number)
    for row in result.ranking.rows[:5]:
        print(row.place, row.loss, result.recipes[row.recipe].recipe)

Names are loaded when they are first used, so that importing this costs nothing.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from axiarch.workflows.adding import add_table, redecide, search_data
    from axiarch.workflows.asking import keep_engine
    from axiarch.workflows.branching import (
        branch,
        branch_of,
        leader_of,
        lineage,
        lineage_lines,
        space_of,
    )
    from axiarch.workflows.bringing import bring_in
    from axiarch.workflows.clusters import check_address, trust_cluster
    from axiarch.workflows.comparing import differences, keep_version, versions
    from axiarch.workflows.confirming import confirmations, confirming_search
    from axiarch.workflows.continuing import continue_model, continue_run, continued
    from axiarch.workflows.deciding import (
        data_changes,
        data_proposals,
        decide,
        decision_preview,
        proposal_lines,
        undo_decision,
    )
    from axiarch.workflows.demonstrating import demo_search, make_demo, write_demo_files
    from axiarch.workflows.devices import device_lines, keep_device, known_devices
    from axiarch.workflows.diagnosing import (
        change_words,
        changes_of,
        diagnosis,
        diagnosis_json,
        faults,
        finding_lines,
        findings_by,
    )
    from axiarch.workflows.drafting import alone, draft_data, load_draft, new_search, save_draft
    from axiarch.workflows.enlarging import more_rows, row_lines, row_searches
    from axiarch.workflows.explaining import KnobEffects, effect_lines, effects_json, explain
    from axiarch.workflows.exporting import (
        export_chart,
        export_curves,
        export_epochs,
        export_predictions,
        export_ranking,
        export_runs,
        export_search,
    )
    from axiarch.workflows.exporting_learnt import export_effects, export_tradeoffs
    from axiarch.workflows.finishing import finishing_search
    from axiarch.workflows.forecasting import forecast_search
    from axiarch.workflows.foreseeing import Foresight, foresight
    from axiarch.workflows.joining import together, together_json, together_lines
    from axiarch.workflows.judging import first_run, judge_recipe, tail_words
    from axiarch.workflows.listing import cheapest, listed, parse_filter, unbeaten
    from axiarch.workflows.measuring import by_measure, measure_json, measure_lines
    from axiarch.workflows.models import (
        export_network,
        find_model,
        import_network,
        keep_model,
        kept_models,
        predict,
        predict_with,
        remove_model,
        verify_model,
    )
    from axiarch.workflows.noting import about_words, find_notes, keep_note, note_lines
    from axiarch.workflows.opening import data_set, open_workspace, recent_tables
    from axiarch.workflows.packages import installed_members
    from axiarch.workflows.packing import pack, unpack
    from axiarch.workflows.planning import default_workers
    from axiarch.workflows.probing import kept_probe, kept_probes, probe, probe_line
    from axiarch.workflows.proxying import (
        proxies,
        proxy_agreements,
        proxy_lines,
        proxy_verdict,
        smaller_trainings,
        train_proxy,
    )
    from axiarch.workflows.reporting import export_report
    from axiarch.workflows.rescuing import rescue
    from axiarch.workflows.scaling import scale_up
    from axiarch.workflows.sidebyside import (
        Comparison,
        compare_recipes,
        comparison_json,
        comparison_lines,
    )
    from axiarch.workflows.snapshot import Snapshot
    from axiarch.workflows.starting import resume_search, start_search
    from axiarch.workflows.steering import seeds_wanted, steer_search
    from axiarch.workflows.telling import example_predictions
    from axiarch.workflows.trading import (
        TradeOffs,
        ladder_from,
        tradeoff_lines,
        tradeoffs_json,
    )
    from axiarch.workflows.unsealing import open_seal, openings, score_of, score_words, trust
    from axiarch.workflows.verdicts import recipe_verdict, unknown_recipe, unranked
    from axiarch.workflows.waiting import wait
    from axiarch.workflows.watching import Watcher, snapshot_of

#: The module that each name lives in.
_MODULES = {
    "adding": "add_table redecide search_data",
    "asking": "keep_engine",
    "bringing": "bring_in",
    "branching": "branch branch_of leader_of lineage lineage_lines space_of",
    "comparing": "differences keep_version versions",
    "confirming": "confirmations confirming_search",
    "continuing": "continue_model continue_run continued",
    "demonstrating": "demo_search make_demo write_demo_files",
    "diagnosing": ("change_words changes_of diagnosis diagnosis_json faults finding_lines "
                   "findings_by"),
    "drafting": "alone draft_data load_draft new_search save_draft",
    "exporting": ("export_chart export_curves export_epochs export_predictions export_ranking "
                  "export_runs export_search"),
    "exporting_learnt": "export_effects export_tradeoffs",
    "finishing": "finishing_search",
    "forecasting": "forecast_search",
    "judging": "first_run judge_recipe tail_words",
    "measuring": "by_measure measure_json measure_lines",
    "models": ("export_network find_model import_network keep_model kept_models predict "
               "predict_with remove_model verify_model"),
    "deciding": "data_changes data_proposals decide decision_preview proposal_lines "
                "undo_decision",
    "enlarging": "more_rows row_lines row_searches",
    "noting": "about_words find_notes keep_note note_lines",
    "opening": "data_set open_workspace recent_tables",
    "packages": "installed_members",
    "packing": "pack unpack",
    "planning": "default_workers",
    "devices": "device_lines keep_device known_devices",
    "probing": "kept_probe kept_probes probe probe_line",
    "proxying": "proxies proxy_agreements proxy_lines proxy_verdict smaller_trainings "
                "train_proxy",
    "reporting": "export_report",
    "rescuing": "rescue",
    "scaling": "scale_up",
    "sidebyside": "Comparison compare_recipes comparison_json comparison_lines",
    "starting": "resume_search start_search",
    "clusters": "check_address trust_cluster",
    "explaining": "KnobEffects effect_lines effects_json explain",
    "foreseeing": "Foresight foresight",
    "listing": "cheapest listed parse_filter unbeaten",
    "steering": "seeds_wanted steer_search",
    "telling": "example_predictions",
    "joining": "together together_json together_lines",
    "trading": "TradeOffs ladder_from tradeoff_lines tradeoffs_json",
    "unsealing": "open_seal openings score_of score_words trust",
    "waiting": "wait",
    "verdicts": "recipe_verdict unknown_recipe unranked",
    "snapshot": "Snapshot",
    "watching": "Watcher snapshot_of",
}
_HOME = {name: module for module, names in _MODULES.items() for name in names.split()}

__all__ = [
    "Comparison",
    "Foresight",
    "KnobEffects",
    "Snapshot",
    "TradeOffs",
    "Watcher",
    "about_words",
    "add_table",
    "alone",
    "branch",
    "branch_of",
    "bring_in",
    "by_measure",
    "change_words",
    "changes_of",
    "cheapest",
    "check_address",
    "compare_recipes",
    "comparison_json",
    "comparison_lines",
    "confirmations",
    "confirming_search",
    "continue_model",
    "continue_run",
    "continued",
    "data_changes",
    "data_proposals",
    "data_set",
    "decide",
    "decision_preview",
    "default_workers",
    "demo_search",
    "device_lines",
    "diagnosis",
    "diagnosis_json",
    "differences",
    "draft_data",
    "effect_lines",
    "effects_json",
    "example_predictions",
    "explain",
    "export_chart",
    "export_curves",
    "export_effects",
    "export_epochs",
    "export_network",
    "export_predictions",
    "export_ranking",
    "export_report",
    "export_runs",
    "export_search",
    "export_tradeoffs",
    "faults",
    "find_model",
    "find_notes",
    "finding_lines",
    "findings_by",
    "finishing_search",
    "first_run",
    "forecast_search",
    "foresight",
    "import_network",
    "installed_members",
    "judge_recipe",
    "keep_device",
    "keep_engine",
    "keep_model",
    "keep_note",
    "keep_version",
    "kept_models",
    "kept_probe",
    "kept_probes",
    "known_devices",
    "ladder_from",
    "leader_of",
    "lineage",
    "lineage_lines",
    "listed",
    "load_draft",
    "make_demo",
    "measure_json",
    "measure_lines",
    "more_rows",
    "new_search",
    "note_lines",
    "open_seal",
    "open_workspace",
    "openings",
    "pack",
    "parse_filter",
    "predict",
    "predict_with",
    "probe",
    "probe_line",
    "proposal_lines",
    "proxies",
    "proxy_agreements",
    "proxy_lines",
    "proxy_verdict",
    "recent_tables",
    "recipe_verdict",
    "redecide",
    "remove_model",
    "rescue",
    "resume_search",
    "row_lines",
    "row_searches",
    "save_draft",
    "scale_up",
    "score_of",
    "score_words",
    "search_data",
    "seeds_wanted",
    "smaller_trainings",
    "snapshot_of",
    "space_of",
    "start_search",
    "steer_search",
    "tail_words",
    "together",
    "together_json",
    "together_lines",
    "tradeoff_lines",
    "tradeoffs_json",
    "train_proxy",
    "trust",
    "trust_cluster",
    "unbeaten",
    "undo_decision",
    "unknown_recipe",
    "unpack",
    "unranked",
    "verify_model",
    "versions",
    "wait",
    "write_demo_files",
]


def __getattr__(name: str) -> Any:
    if name not in _HOME:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(importlib.import_module(f"{__name__}.{_HOME[name]}"), name)


def __dir__() -> list[str]:
    return sorted(__all__)
