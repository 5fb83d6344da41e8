"""How many slips in the core the tests notice: drawn mutants of its files, each against the tests that run its line.

    pip install -e '.[test,bench]' && python bench/mutants.py [--count 300] [--seed 0] [--folder kinds] [--map FOLDER]

Works on copies of what is committed, one a core. First the default tests are run once, and it is kept which of them
run which line, and how long each takes (in the folder of `--map`, which a later call takes up again). A mutant is
killed when a test fails, or takes five minutes: those that run its line are asked, those of its folder first, and of
them the quickest, a minute and a half's worth; where none runs it (as with what is worked out when a module is
imported), those of its folder. Prints the survivors, each as a line of a diff, and the share that was killed; ends with
status 1 where that is under 85 %.
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import subprocess
import sys
import tempfile
from collections.abc import Collection, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from difflib import unified_diff
from itertools import count, islice
from pathlib import Path
from queue import SimpleQueue
from typing import NamedTuple
from xml.etree import ElementTree

import coverage
from cosmic_ray.ast import ast_nodes, get_ast
from cosmic_ray.mutating import mutate_code
from cosmic_ray.operators.operator import Operator
from cosmic_ray.plugins import get_operator
from parso.tree import Leaf, NodeOrLeaf

TESTS = {
    "checks": ["checks", "borders", "impact"],
    "decide": ["decide", "blanks", "checks"],
    "detect": ["accidents", "rewritten", "matching"],
    "diff": ["borders", "kinds", "typed", "three_sides", "moving"],
    "compare": ["decide", "laws", "moving", "unseen"],
    "engine": ["stages", "laws"],
    "infer": ["store_file", "headings", "demo_store", "results"],
    "kinds": ["kinds", "borders", "one_reading", "typed"],
    "lists": ["lists", "lines", "same_door"],
    "match": ["matching", "keys", "headings", "moving"],
    "model": ["changeset", "store_file", "requests"],
    "outcomes": ["after", "mending", "results", "chains"],
    "plan": ["grouping", "importers", "codes", "practice_rounds"],
    "prove": ["importers", "laws", "practice"],
    "query": ["expressions", "values", "previews"],
    "rekey": ["codes", "keys"],
    "review": ["previews", "answers", "signoff", "impact"],
    "rules": ["rules", "same_door", "values"],
    "spreadsheet": ["rewritten", "accidents"],
    "support": ["distinct", "stages", "requests"],
    "worksheet": ["sheet", "drafts"],
}
"""The tests of each folder of the core, the nearest first; the laws come after them."""

COMPARISONS = ("Lt_LtE", "LtE_Lt", "Gt_GtE", "GtE_Gt", "Eq_NotEq", "NotEq_Eq", "Is_IsNot", "IsNot_Is")
OPERATORS = [
    *(f"core/ReplaceComparisonOperator_{one}" for one in COMPARISONS),
    *(f"core/ReplaceBinaryOperator_{one}" for one in ("Add_Sub", "Sub_Add", "BitAnd_BitOr", "BitOr_BitAnd")),
    *(f"core/{one}" for one in ("ReplaceAndWithOr", "ReplaceOrWithAnd", "ReplaceUnaryOperator_Delete_Invert")),
    *(f"core/{one}" for one in ("ReplaceUnaryOperator_Delete_Not", "NumberReplacer", "ReplaceTrueWithFalse")),
    "core/ReplaceFalseWithTrue",
]
SWAPS = (
    ("any", "all"), ("min", "max"), ("head", "tail"), ("is_null", "is_not_null"), ("first", "last"),
    ("starts_with", "ends_with"), ('"first"', '"last"'), ('"left"', '"inner"'), ('"anti"', '"semi"'),
    ('"after"', '"before"'),
)  # fmt: skip
SWAPPED = {one: other for pair in SWAPS for one, other in (pair, pair[::-1])}
"""What a hand takes for one another."""

LONGEST = 300
"""Seconds that the tests of a mutant may take."""

SECONDS_ASKED = 90.0
"""Tests that take as long together are asked of a mutant."""

LEAST_ASKED = 20
"""But no fewer than these, however long they take."""

TIMES = count(1)
"""The times of files with a slip, each another: Python takes a compiled file again by its text's time and size."""


class SwapNames(Operator):  # type: ignore[misc]
    """One of two words for the other."""

    def mutation_positions(self, node: NodeOrLeaf) -> Iterator[tuple[tuple[int, int], tuple[int, int]]]:
        """Where a word stands that has another beside it."""
        if isinstance(node, Leaf) and node.value in SWAPPED:
            yield node.start_pos, node.end_pos

    def mutate(self, node: Leaf, index: int) -> Leaf:
        """The other word."""
        del index
        node.value = SWAPPED[node.value]
        return node

    @classmethod
    def examples(cls) -> tuple[()]:
        """None."""
        return ()


class Mutant(NamedTuple):
    """One slip: the file, the operator, and which of the places in the file that it could be made in."""

    path: Path
    operator: Operator
    occurrence: int


def mutants(root: Path, folder: str | None) -> list[Mutant]:
    """All that can be made of the core, or of one folder of it."""
    operators = [*(get_operator(name)() for name in OPERATORS), SwapNames()]
    every = []
    core = root / "src/neat_delta/core"
    for path in sorted(path for path in core.rglob("*.py") if folder in (None, *path.relative_to(core).parts)):
        nodes = list(ast_nodes(get_ast(path.read_text())))
        for operator in operators:
            times = sum(len(list(operator.mutation_positions(node))) for node in nodes)
            every += [Mutant(path, operator, number) for number in range(times)]
    return every


def acts(mutant: Mutant) -> bool:
    """Whether the slip can be seen at all: not in an annotation, which nobody evaluates, nor in what only makes sure
    (`zip`'s `strict`, a value's slots).
    """
    code = mutant.path.read_text()
    return _without_annotations(code) != _without_annotations(mutate_code(code, mutant.operator, mutant.occurrence))


def _without_annotations(code: str) -> str:
    tree = ast.parse(code)
    for node in ast.walk(tree):
        if isinstance(node, ast.arg):
            node.annotation = None
        elif isinstance(node, ast.FunctionDef):
            node.returns = None
        elif isinstance(node, ast.ClassDef):
            node.decorator_list = []
        elif isinstance(node, ast.Call):
            node.keywords = [keyword for keyword in node.keywords if keyword.arg != "strict"]
        elif isinstance(node, ast.AnnAssign):
            node.annotation = ast.Constant(None)
    return ast.dump(tree)


class TestsOfLines(NamedTuple):
    """Which tests run which lines of the core, by file and line; and the seconds that each takes."""

    lines: Mapping[str, Mapping[int, Sequence[str]]]
    seconds: Mapping[str, float]

    def of(self, file: str, lines: Sequence[int], near: Collection[str]) -> list[str]:
        """The tests to be asked of these lines: those of the files that are `near` first, and the quickest of them."""
        every = {test for line in lines for test in self.lines.get(file, {}).get(line, ())}
        asked, total = list[str](), 0.0
        order = {test: (test.partition("::")[0] not in near, self.seconds.get(test, 1.0), test) for test in every}
        for test in sorted(every, key=order.__getitem__):
            total += self.seconds.get(test, 1.0)
            if total > SECONDS_ASKED and len(asked) >= LEAST_ASKED:
                break
            asked.append(test)
        return asked


def measured(root: Path, folder: Path) -> TestsOfLines:
    """Run the default tests once, unless the folder has what came of that."""
    data, report = folder / "lines.sqlite", folder / "tests.xml"
    if not data.exists():
        folder.mkdir(parents=True, exist_ok=True)
        settings = folder / "coverage.ini"
        settings.write_text(
            f"[run]\nsource = {root / 'src/neat_delta/core'}\ndata_file = {data}\nrelative_files = true\n"
        )
        call = [sys.executable, "-m", "pytest", "-q", "-n", "2", "-p", "no:cacheprovider", "--cov", "--cov-report=",
                f"--cov-config={settings}", "--cov-context=test", f"--junitxml={report}"]  # fmt: skip
        subprocess.run(call, cwd=root, env={**os.environ, "PYTHONPATH": str(root / "src")}, check=True)
    seconds = {}
    for case in ElementTree.parse(report).iter("testcase"):
        name = f"{case.attrib['classname'].replace('.', '/')}.py::{case.attrib['name']}"
        seconds[name] = float(case.attrib["time"])
    known = coverage.CoverageData(str(data))
    known.read()
    lines = {
        file: {
            line: [test.partition("|")[0] for test in tests if test]
            for line, tests in known.contexts_by_lineno(file).items()
        }
        for file in known.measured_files()
    }
    return TestsOfLines(lines, seconds)


def lines_of(mutant: Mutant) -> list[int]:
    """The lines of the statement in which a mutant differs, as coverage counts them: by the line that it begins in."""
    code = mutant.path.read_text()
    other = mutate_code(code, mutant.operator, mutant.occurrence)
    differ = [
        n for n, (old, new) in enumerate(zip(code.splitlines(), other.splitlines(), strict=False), 1) if old != new
    ]
    spans = [(node.lineno, node.end_lineno or node.lineno) for node in ast.walk(ast.parse(code))
             if isinstance(node, ast.stmt) and not isinstance(node, ast.FunctionDef | ast.ClassDef)]  # fmt: skip
    inner = [max((span for span in spans if span[0] <= line <= span[1]), default=(line, line)) for line in differ]
    return sorted({line for first, last in inner for line in range(first, last + 1)})


def killed(root: Path, mutant: Mutant, known: TestsOfLines) -> bool:
    """Whether a test notices it; the file is put back."""
    code = mutant.path.read_text()
    file = mutant.path.relative_to(root)
    parts = file.relative_to("src/neat_delta/core").parts
    near = dict.fromkeys([*next(TESTS[part] for part in reversed(parts[:-1]) if part in TESTS), "laws"])
    files = [f"tests/test_{name}.py" for name in near]
    tests = known.of(str(file), lines_of(mutant), files) or files
    call = [sys.executable, "-m", "pytest", "-x", "-q", "-n", "0", "-p", "no:cacheprovider", *tests]
    mutant.path.write_text(mutate_code(code, mutant.operator, mutant.occurrence))
    os.utime(mutant.path, (next(TIMES),) * 2)
    try:
        environment = {**os.environ, "PYTHONPATH": str(root / "src")}
        done = subprocess.run(call, cwd=root, env=environment, capture_output=True, timeout=LONGEST, check=False)
    except subprocess.TimeoutExpired:
        return True
    finally:
        mutant.path.write_text(code)
    return done.returncode != 0


def shown(root: Path, mutant: Mutant) -> str:
    """The slip as the lines that differ."""
    code = mutant.path.read_text()
    other = mutate_code(code, mutant.operator, mutant.occurrence)
    name = str(mutant.path.relative_to(root))
    return "\n".join(unified_diff(code.splitlines(), other.splitlines(), name, name, n=0, lineterm=""))


def main() -> None:
    """Draw mutants, and run the tests of each."""
    options = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    options.add_argument("--count", type=int, default=300)
    options.add_argument("--seed", type=int, default=0)
    options.add_argument("--folder", choices=sorted(TESTS))
    options.add_argument("--map", type=Path)
    asked = options.parse_args()
    with tempfile.TemporaryDirectory() as name:
        roots = SimpleQueue[Path]()
        for number in range(len(os.sched_getaffinity(0))):
            root = Path(name) / f"copy-{number}"
            subprocess.run(["git", "clone", "--quiet", ".", str(root)], check=True)
            roots.put(root)
        known = measured(root, (asked.map or Path(name) / "map").absolute())
        every = mutants(root, asked.folder)
        random.Random(asked.seed).shuffle(every)
        drawn, ends = list(islice(filter(acts, every), asked.count)), list[bool]()

        def survives(mutant: Mutant) -> bool:
            free = roots.get()
            own = mutant._replace(path=free / mutant.path.relative_to(root))
            try:
                lives = not killed(free, own, known)
                if lives:
                    print(f"survived\n{shown(free, own)}\n", flush=True)
            finally:
                roots.put(free)
            ends.append(lives)
            print(f"{len(ends)} of {len(drawn)} asked, {sum(ends)} survived", file=sys.stderr, flush=True)
            return lives

        with ThreadPoolExecutor(roots.qsize()) as pool:
            survivors = sum(pool.map(survives, drawn))
    share = 100 * (len(drawn) - survivors) / len(drawn)
    print(f"{len(drawn) - survivors} of {len(drawn)} mutants killed ({share:.0f} %), of {len(every):,} that there are")
    sys.exit(share < 85)


if __name__ == "__main__":
    main()
