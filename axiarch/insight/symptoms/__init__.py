"""Symptoms of a training, each found by one function from one run's numbers.

Thresholds are named, with the reason for each; `python -m benchmarks.diagnosis` counts hits and
false alarms on trainings that were not looked at while they were chosen. Losses are compared with
the baseline's, so that units do not matter.
"""
