#!/usr/bin/env python3
"""Prints the ten steps of the last build that took longest: bench/slowest.py [build/release]."""
import pathlib
import sys

log = pathlib.Path(sys.argv[1] if len(sys.argv) > 1 else "build/release") / ".ninja_log"
steps = {}
for line in log.read_text().splitlines()[1:]:
    start, end, _, output, _ = line.split("\t")
    steps[output] = (int(end) - int(start)) / 1000
for output, seconds in sorted(steps.items(), key=lambda step: -step[1])[:10]:
    print(f"{seconds:7.1f} s  {output}")
print(f"{sum(steps.values()):7.1f} s  all {len(steps)} steps, two or more at a time")
