"""The process that uses trained networks: ``python -m axiarch.export WORD``, started by workflows.

It reads one JSON request and answers with JSON lines: how far the work is, and last the answer or
the error. The interface itself never loads the engine.
"""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from axiarch.errors import AxiarchError

Tell = Callable[[str, float], None]


def _say(**what: object) -> None:
    print(json.dumps(what), flush=True)


class _Steps:
    """Says how far the work is, a few times a second."""

    def __init__(self) -> None:
        self._last, self._step = 0.0, ""

    def __call__(self, step: str, done: float) -> None:
        now = time.monotonic()
        if step != self._step or now - self._last > 0.2:
            self._last, self._step = now, step
            _say(step=step, done=done)


def _trained(request: dict[str, Any]) -> list[Any]:
    """Return the runs that a request names."""
    from axiarch.engine.run import RunSpec
    from axiarch.engine.streams import Streams
    from axiarch.export.judging import Trained
    from axiarch.recipes.recipe import Recipe

    return [
        Trained(RunSpec(one["run"], Recipe(one["recipe"]), Streams(*one["streams"])),
                Path(one["checkpoint"])) for one in request["runs"]
    ]


def _judge(request: dict[str, Any], on_progress: Tell) -> dict[str, Any]:
    from axiarch.data.describing import read_dataset
    from axiarch.export.judging import PartName, judge

    part: PartName = "train" if request.get(
        "part") == "train" else "validation"  # test rows: word "test" alone
    return judge(read_dataset(Path(request["data"])), _trained(request), part,
                 str(request.get("by", "")), bool(request.get("inputs")))


def _ready(request: dict[str, Any], on_progress: Tell) -> dict[str, Any]:
    """Load the runs that will be scored: whatever is wrong with them shows before a seal is
    opened.
    """
    from axiarch.data.describing import read_dataset
    from axiarch.data.sealed import verify_kept
    from axiarch.export.judging import best_of

    dataset = read_dataset(Path(request["data"]))
    verify_kept(dataset)
    for trained in _trained(request):
        best_of(dataset, trained)
    return {"ready": True}


def _test(request: dict[str, Any], on_progress: Tell) -> dict[str, Any]:
    """Score baselines and runs on the test rows: asked for only after the opening was
    journalled.
    """
    from axiarch.data.describing import read_dataset
    from axiarch.export.judging import baselines, judge

    dataset = read_dataset(Path(request["data"]))
    judged = judge(dataset, _trained(request),
                   "test") if request["runs"] else {"judged": [], "summary": {}}
    return {**baselines(dataset), **judged}


def _keep(request: dict[str, Any], on_progress: Tell) -> dict[str, Any]:
    import numpy as np

    from axiarch.data.describing import read_dataset
    from axiarch.engine.predictor import Average
    from axiarch.export.averaging import gain, no_gain
    from axiarch.export.judging import best_of
    from axiarch.export.models import keep_model, score

    dataset, trained = read_dataset(Path(request["data"])), _trained(request)
    networks, epochs = zip(*(best_of(dataset, one) for one in trained), strict=True)
    fold = trained[0].run.streams.fold
    part, target = dataset.part("validation", fold), dataset.folds[fold].encoding.target
    gained = None
    if len(networks) > 1:
        gained = gain(target, networks, part.inputs, np.asarray(part.targets))
        if not request.get("anyway") and (not gained["apart"] or dataset.plan.split.all_open):
            raise no_gain(gained, dataset.plan.split.all_open)
    predictor = networks[0] if len(networks) == 1 else Average(networks)
    loss, metrics = score(predictor, target, part)
    about = {**request["about"], "epoch": epochs[0], "loss": loss, "metrics": list(metrics)}
    path = Path(request["path"])
    keep_model(path, dataset, fold, [one.run.recipe for one in trained], predictor, about)
    return {"bytes": path.stat().st_size, "gain": gained, **about}


def _import(request: dict[str, Any], on_progress: Tell) -> dict[str, Any]:
    from axiarch.data.describing import read_dataset
    from axiarch.export.models import keep_model, score
    from axiarch.export.reading import read_network

    dataset, fold = read_dataset(Path(request["data"])), int(request["fold"])
    encoding = dataset.folds[fold].encoding
    recipe, predictor = read_network(Path(request["file"]), encoding)
    loss, metrics = score(predictor, encoding.target, dataset.part("validation", fold))
    about = {**request["about"], "epoch": 0, "loss": loss, "metrics": list(metrics)}
    keep_model(Path(request["path"]), dataset, fold, [recipe], predictor, about)
    return {"network": recipe["network"], **about}


def _verify(request: dict[str, Any], on_progress: Tell) -> dict[str, Any]:
    from axiarch.data.describing import read_dataset
    from axiarch.export.models import open_model, verify_model

    kept, found = verify_model(open_model(Path(request["path"])),
                               read_dataset(Path(request["data"])))
    return {"kept": kept, "found": found}


def _predict(request: dict[str, Any], on_progress: Tell) -> dict[str, Any]:
    from axiarch.export.models import open_model
    from axiarch.export.predicting import predict_file

    return predict_file(open_model(Path(request["path"])), Path(request["file"]),
                        Path(request["place"]), bool(request["force"]), on_progress)


def _network(request: dict[str, Any], on_progress: Tell) -> dict[str, Any]:
    from axiarch.export.models import open_model
    from axiarch.export.network import export_network

    return export_network(open_model(Path(request["path"])), Path(request["place"]),
                          bool(request["force"]))


_WORDS: dict[str, Callable[[dict[str, Any], Tell], dict[str, Any]]] = {
    "judge": _judge, "ready": _ready, "test": _test, "keep": _keep, "import": _import,
    "verify": _verify, "predict": _predict, "network": _network
}


def main(words: list[str]) -> int:
    """Do what the word says; return the exit code."""
    if len(words) != 1 or words[0] not in _WORDS:
        print("this module is started by the program itself; see axiarch --help", file=sys.stderr)
        return 2
    from threadpoolctl import threadpool_limits

    try:
        request = json.load(sys.stdin)
        with threadpool_limits(1):
            answer = _WORDS[words[0]](request, _Steps())
    except AxiarchError as error:
        _say(error=type(error).__name__, what=error.what, where=error.where, remedy=error.remedy)
        return error.exit_code
    except OSError as error:
        _say(error="WorkspaceError",
             what=f"reading or writing failed: {error.strerror or error}",
             where=str(error.filename or ""),
             remedy="free some disk space, or check the permissions")
        return 3
    _say(**answer)
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
