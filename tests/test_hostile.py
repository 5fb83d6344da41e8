"""Hostile, unlucky, interrupted: files made to do harm, pipes, signals at any moment. Real processes, with limits."""

from __future__ import annotations

import gzip
import io
import os
import resource
import signal
import subprocess
import threading
import time
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest
import xlsxwriter

from neat_delta.files.whole import digest_of
from tests.conftest import PROGRAM, first_of, started
from tests.made import open_document

LIVE = "sku,name,price\nQA-1,Jar,1.50\nQA-2,Lid,2.50\n"
MOST_MEMORY = 2 << 30
"""What a whole process may take for any small file."""


def far_away(*cells: str) -> bytes:
    """A workbook with a small table, and a cell or more at the far end of its sheet."""
    out = io.BytesIO()
    with xlsxwriter.Workbook(out, {"in_memory": True}) as book:
        page = book.add_worksheet("items")
        for row, line in enumerate(LIVE.splitlines()):
            page.write_row(row, 0, line.split(","))
        page.write_string("C4", "here")
    archive = zipfile.ZipFile(io.BytesIO(out.getvalue()))
    changed = io.BytesIO()
    with zipfile.ZipFile(changed, "w", zipfile.ZIP_DEFLATED) as copy:
        for member in archive.namelist():
            data = archive.read(member)
            if member == "xl/worksheets/sheet1.xml":
                rows = "".join(cells).encode()
                data = data.replace(b"</sheetData>", rows + b"</sheetData>")
            copy.writestr(member, data)
    return changed.getvalue()


def cell(place: str) -> str:
    return f'<row r="1048576"><c r="{place}"><v>1</v></c></row>'


def repeated(columns: object, rows: object) -> bytes:
    """An OpenDocument workbook whose second row is repeated."""
    text = 'office:value-type="string"><text:p>x</text:p></table:table-cell>'
    return open_document(
        f"<table:table-row><table:table-cell {text}<table:table-cell {text}</table:table-row>"
        f'<table:table-row table:number-rows-repeated="{rows}">'
        f'<table:table-cell table:number-columns-repeated="{columns}" {text}</table:table-row>',
        "items",
    )


BOMBS: dict[str, tuple[str, Callable[[], bytes]]] = {
    "ZZ1048576": ("a.xlsx", lambda: far_away(cell("ZZ1048576"))),
    "XFD1048576": ("a.xlsx", lambda: far_away(cell("XFD1048576"))),
    "XFD1048576, prefixed": (
        "a.xlsx",
        lambda: far_away('<x:row xmlns:x="u" r="1048576"><x:c r="XFD1048576"><x:v>1</x:v></x:c></x:row>'),
    ),
    "XFD1048576, without its row": ("a.xlsx", lambda: far_away('<row><c r="XFD1048576"><v>1</v></c></row>')),
    "XFD1048576, in other quotes": (
        "a.xlsx",
        lambda: far_away("<row r='1048576'><c r='XFD1048576'><v>1</v></c></row>"),
    ),
    "XFD1048576, a text": (
        "a.xlsx",
        lambda: far_away('<row r="1048576"><c t="inlineStr" r="XFD1048576"><is><t>x</t></is></c></row>'),
    ),
    "repeated cells": ("a.ods", lambda: repeated(16_384, 1_048_575)),
    "repeated cells, some": ("a.ods", lambda: repeated(1_000, 200_000)),
    "repeated without a number": ("a.ods", lambda: repeated("abc", 2)),
    "repeated less than nothing": ("a.ods", lambda: repeated(-5, 2)),
    "line ends in gzip": (
        "a.csv.gz",
        lambda: gzip.compress(b"sku,name\nQA-1,x\n" + b"\n" * 250_000_000 + b"QA-2,y\n", 9),
    ),
    "only line ends in gzip": ("a.csv.gz", lambda: gzip.compress(b"\n" * 250_000_000, 9)),
    "line ends, plain": ("a.csv", lambda: b"sku,name\nQA-1,x\n" + b"\n" * 60_000_000 + b"QA-2,y\n"),
    "commas in gzip": ("a.csv.gz", lambda: gzip.compress(b"sku,name\n" + b"," * 250_000_000, 9)),
}


def limited() -> None:
    resource.setrlimit(resource.RLIMIT_DATA, (MOST_MEMORY, MOST_MEMORY))


@pytest.mark.process
@pytest.mark.parametrize("name", first_of(sorted(BOMBS, key=lambda name: "," in str(name)), 4))
def test_a_small_file_that_kills_is_one_line(put, tmp_path, name):
    file, make = BOMBS[name]
    put("live.csv", LIVE)
    put(file, make())
    process = subprocess.Popen(
        [PROGRAM, "compare", "live.csv", file],
        cwd=tmp_path,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        preexec_fn=limited,  # noqa: PLW1509 - it takes no lock
    )
    said, wrong = process.communicate(timeout=120)
    assert (process.returncode, said) == (2, ""), wrong
    assert wrong.startswith(f"Error: {file}") and wrong.count("\n") == 1
    assert "fault in Neat Delta" not in wrong


def test_a_file_cut_short_while_it_is_read_is_one_line(put, tmp_path, monkeypatch, run):
    """Whatever its size: it is read once, and must be what it was when that began."""
    put("live.csv", LIVE)
    rows = "".join(f"QA-{n},{'x' * 90},1.00\n" for n in range(180_000))
    sheet = Path(put("sheet.csv", "sku,name,price\n" + rows))
    assert sheet.stat().st_size > 16 << 20
    real, changes = os.fstat, (lambda: os.truncate(sheet, 1_000), lambda: os.utime(sheet, (1, 1)))
    for change in changes:
        sheet.write_text("sku,name,price\n" + rows)
        looked: list[int] = []

        def once(descriptor, change=change, looked=looked):
            """The state of a file when reading it begins; the sheet changes right after."""
            state = real(descriptor)
            if state.st_ino == sheet.stat().st_ino:
                looked.append(descriptor)
                if len(looked) == 1:
                    change()
            return state

        monkeypatch.setattr(os, "fstat", once)
        failed = run("compare", "live.csv", "sheet.csv")
        monkeypatch.setattr(os, "fstat", real)
        assert looked
        assert failed.returncode == 2
        assert failed.stderr == "Error: sheet.csv: it was changed while it was being read. Run the command again.\n"


@pytest.mark.process
@pytest.mark.parametrize(
    ("which", "words"),
    [
        ("live", ["compare", "live.csv", "sheet.csv"]),
        ("sheet", ["compare", "live.csv", "sheet.csv", "--memory", "1KB"]),
        ("live", ["edit", "live.csv", "--set", "price = 1.60", "--memory", "1KB"]),
    ],
)
def test_a_pipe_is_read_once_into_the_digest_and_the_table(put, tmp_path, which, words):
    """Whichever way files are read; nobody opens it twice, or looks at it first."""
    put("live.csv", LIVE)
    put("sheet.csv", LIVE.replace("1.50", "1.60"))
    pipe = tmp_path / "pipe"
    os.mkfifo(pipe)
    content = (tmp_path / f"{which}.csv").read_bytes()
    threading.Thread(target=lambda: pipe.write_bytes(content), daemon=True).start()
    done = subprocess.run(
        [PROGRAM, *("pipe" if word == f"{which}.csv" else word for word in words), "-o", "c.jsonl"],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )
    assert (done.returncode, done.stderr) == (0, "")
    assert f'"path":"pipe","blake3":"{digest_of(content)}"' in (tmp_path / "c.jsonl").read_text()


@pytest.mark.process
@pytest.mark.parametrize("named", first_of(["-", "/dev/stdin", "<(cat live.csv)"], 1))
def test_live_from_standard_input_or_a_process_has_the_digest_of_what_was_read(put, tmp_path, named):
    put("live.csv", LIVE)
    put("sheet.csv", LIVE.replace("1.50", "1.60"))
    call = f"cat live.csv | {PROGRAM} compare {named} sheet.csv -o c.jsonl"
    done = subprocess.run(["bash", "-c", call], cwd=tmp_path, capture_output=True, text=True, check=False)
    assert (done.returncode, done.stderr) == (0, "")
    assert digest_of(LIVE.encode()) in (tmp_path / "c.jsonl").read_text()
    again = [str(PROGRAM), "write", "c.jsonl", "--to", "out", "--live", "live.csv"]
    assert subprocess.run(again, cwd=tmp_path, capture_output=True, check=False).returncode == 0


@pytest.mark.process
@pytest.mark.parametrize("device", ["/dev/zero", "/dev/urandom"])
def test_a_device_without_end_is_no_file(put, tmp_path, device):
    put("sheet.csv", LIVE)
    done = subprocess.run(
        [PROGRAM, "compare", device, "sheet.csv"], cwd=tmp_path, capture_output=True, text=True, timeout=60, check=False
    )
    assert (done.returncode, done.stderr) == (2, f"Error: {device}: this is a device, and no file. Name a file.\n")


def stop(call: list[str], folder: Path, after: float, number: signal.Signals) -> None:
    """Stop the program after so many seconds, and see that it goes as it should."""
    process = started(call, cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    time.sleep(after)
    process.send_signal(number)
    try:
        _, said = process.communicate(timeout=20)
    except subprocess.TimeoutExpired:
        process.kill()
        pytest.fail(f"it hung, stopped after {after:.2f} s")
    assert "Traceback" not in said and "rror" not in said, said
    assert process.returncode in {0, 1, 128 + number}
    if process.returncode == 128 + number:
        assert said.endswith("Stopped. Nothing is half written, and no input was changed.\n")


@pytest.mark.process
def test_what_a_parent_has_it_ignore_it_ignores(put, tmp_path):
    """As nohup does, or a shell with what it starts in the background."""
    rows = "".join(f"QA-{n:06},Jar {n},{n % 90 + 1}.50\n" for n in range(40_000))
    put("live.csv", "sku,name,price\n" + rows)
    call = f"trap '' INT; exec {PROGRAM} check live.csv --json"
    process = started(["bash", "-c", call], cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    time.sleep(0.2)  # until the shell has heard what to ignore
    while process.poll() is None:  # at every moment, also while an engine works that listens for itself
        process.send_signal(signal.SIGINT)
        time.sleep(0.02)
    _, said = process.communicate(timeout=60)
    assert process.returncode in {0, 1} and said == ""


@pytest.mark.process
@pytest.mark.parametrize("moments", first_of([2, 40], 1))
def test_stopped_at_any_moment_it_goes_at_once_and_leaves_nothing_half_written(put, tmp_path, moments):
    rows = [f"QA-{n:06},Jar {n},{n % 90 + 1}.50" for n in range(40_000)]
    put("live.csv", "sku,name,price\n" + "\n".join(rows) + "\n")
    put("sheet.csv", "sku,name,price\n" + "\n".join(row.replace(".50", ".90") for row in rows) + "\n")
    inputs = {"live.csv", "sheet.csv"}
    whole = [str(PROGRAM), "compare", "live.csv", "sheet.csv", "-o", "c.jsonl", "--accept", "slip"]
    # Before any line of ours can listen, Python itself starts: while the program says its version, it surely has.
    start = time.perf_counter()
    subprocess.run([str(PROGRAM), "--version"], capture_output=True, check=True)
    first = time.perf_counter() - start
    start = time.perf_counter()
    assert subprocess.run(whole, cwd=tmp_path, capture_output=True, check=False).returncode == 0
    lasts = time.perf_counter() - start
    content = (tmp_path / "c.jsonl").read_bytes()
    (tmp_path / "c.jsonl").rename(tmp_path / "done.jsonl")
    calls = {"c.jsonl": whole, "out": [str(PROGRAM), "write", "done.jsonl", "--to", "out"]}
    for step in range(moments):
        name = "c.jsonl" if step % 3 else "out"
        number = signal.SIGINT if step % 2 else signal.SIGTERM
        stop(calls[name], tmp_path, first + lasts * step / moments, number)
        left = {file.name for file in tmp_path.iterdir()} - inputs - {"done.jsonl"}
        assert left <= {name}
        if left == {"c.jsonl"}:
            assert (tmp_path / "c.jsonl").read_bytes() == content
            (tmp_path / "c.jsonl").unlink()
        elif left:
            assert {"manifest.json", "READ-ME-FIRST.txt"} < {file.name for file in (tmp_path / "out").iterdir()}
            subprocess.run(["rm", "-r", "out"], cwd=tmp_path, check=True)


@pytest.mark.process
def test_stopped_while_it_waits_for_a_pipe_it_goes(put, tmp_path):
    put("live.csv", LIVE)
    os.mkfifo(tmp_path / "pipe")
    for number in (signal.SIGINT, signal.SIGTERM):
        stop([str(PROGRAM), "compare", "live.csv", "pipe"], tmp_path, 1.0, number)


@pytest.mark.process
def test_an_error_does_not_wait_for_a_pipe(put, tmp_path):
    os.mkfifo(tmp_path / "pipe")
    done = subprocess.run(
        [PROGRAM, "compare", "none.csv", "pipe"], cwd=tmp_path, capture_output=True, text=True, timeout=30, check=False
    )
    assert (done.returncode, "none.csv: there is no such file" in done.stderr) == (2, True)
