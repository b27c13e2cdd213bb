#!/usr/bin/env python3
"""Makes docs/conformance.md: which conformance units (Part 7) are met, and by which test.

    conformance.py          writes the page
    conformance.py --check  ends with 1 when the page is not what the tests say

A test shows a unit by the tag [cu:UNIT]. tests/conformance.csv lists the units by facet; a remark that begins with
"partly" makes a unit count so.
"""
import csv
import re
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PAGE = ROOT / "docs/conformance.md"

HEAD = """# Conformance

The units of conformance that Zunth meets, by facet, each with the test that shows it. Made by `tests/conformance.py`
from the tags of the tests: a unit without a test is a no.

"""


def shown():
    """Unit -> names of the tests that carry its tag."""
    out = {}
    for path in sorted((ROOT / "tests").rglob("*_test.cpp")):
        source = path.read_text(encoding="utf-8")
        for case in re.finditer(r'TEST_CASE\(((?:\s*"(?:[^"\\]|\\.)*",?)+)\)', source):
            texts = re.findall(r'"((?:[^"\\]|\\.)*)"', case[1])
            for unit in re.findall(r"\[cu:([^\]]+)\]", "".join(texts[1:])):
                out.setdefault(unit, []).append((texts[0], path.relative_to(ROOT)))
    return out


def page():
    tests = shown()
    with open(ROOT / "tests/conformance.csv", encoding="utf-8", newline="") as file:
        rows = list(csv.DictReader(file))
    unknown = set(tests) - {row["unit"] for row in rows}
    if unknown:
        sys.exit(f"tests/conformance.csv lacks {', '.join(sorted(unknown))}")
    met = sum(row["unit"] in tests for row in rows)
    text = [HEAD + f"{met} of {len(rows)} units.\n"]
    facet = None
    for row in rows:
        if row["facet"] != facet:
            facet = row["facet"]
            text.append(f"\n## {facet}\n\n| unit | met | shown by |\n|---|---|---|")
        by = tests.get(row["unit"], [])
        state = "no" if not by else "partly" if row["remark"].startswith("partly") else "yes"
        names = "; ".join(f"[{name}](../{path})" for name, path in by)
        remark = row["remark"].removeprefix("partly: ")
        text.append(f"| {row['unit']} | {state} | {names}{' (' + remark + ')' if remark else ''} |")
    return "\n".join(text) + "\n"


def main():
    text = page()
    if "--check" in sys.argv:
        if not PAGE.exists() or PAGE.read_text(encoding="utf-8") != text:
            sys.exit("docs/conformance.md is out of date: run tests/conformance.py")
    else:
        PAGE.write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
