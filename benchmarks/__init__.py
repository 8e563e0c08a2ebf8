"""Speed as ratios: two things timed in one run, so that a busy machine slows both."""
