"""Axiarch: search the training settings of small neural networks, ranked with honest uncertainty.

The public Python interface is :mod:`axiarch.workflows`; ``docs/python.md`` walks through it.
"""

__version__ = "0.1.0"
