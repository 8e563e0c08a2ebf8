"""What probes of a recipe say: short trainings made to find in which band a rate works, where
larger batches stop paying, how deep a network can be, and how large a difference can be seen.

Each is a frozen value with what was measured, and reads from it what is proposed.
"""

from __future__ import annotations

from axiarch.insight.probes.batch import BatchPoint, BatchProbe
from axiarch.insight.probes.depth import BUILDS, DepthPoint, DepthProbe
from axiarch.insight.probes.noise import NoiseProbe
from axiarch.insight.probes.rate import RatePoint, RateProbe

__all__ = ["BUILDS", "DEVICES", "HERE", "KINDS", "BatchPoint", "BatchProbe", "DepthPoint",
           "DepthProbe", "NoiseProbe", "Probe", "RatePoint", "RateProbe"]

#: Kinds of probes, and what each answers.
KINDS: dict[str, str] = {
    "rate": "in which band of learning rates the loss falls, and where training breaks",
    "batch": "where larger batches stop being faster, where they get worse, and what fits memory",
    "depth": "how many layers still learn, plain, normalised and with skips",
    "noise": "how large a difference between two recipes can be seen, and with how many seeds",
}
#: Whose memory a batch is meant for where nothing else is said, and devices that ship, with theirs.
HERE = "this machine"
DEVICES: dict[str, str] = {
    "small device": "2 GiB", "medium device": "8 GiB", "large device": "24 GiB"}

Probe = RateProbe | BatchProbe | DepthProbe | NoiseProbe
