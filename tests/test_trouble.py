"""What would end a night and must not: orders, ledgers, signals, terminals, renderers."""

from __future__ import annotations

import json
import os
import pty
import shutil
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import numpy as np
import psutil
import pytest

import grandlattice as lattice
from conftest import StandStill
from grandlattice import Finished, Started
from grandlattice.errors import PlanError, RunError
from grandlattice.plan.run_block import RunBlock
from grandlattice.runs import Ledger, Patience, Schedule
from test_runs import until

GLAT = [sys.executable, "-c", "from grandlattice.cli.main import main; main()"]


def long_plan(plan_file: Path, samples: int, frames: str = "1-4") -> Path:
    plan_file.write_text(
        plan_file.read_text().replace("samples: 4", f"samples: {samples}\n  frames: {frames}")
    )
    return plan_file


def meanwhile(plan_file: Path, do: Callable[[sqlite3.Connection], object], **how) -> lattice.Run:
    """Run a plan, and do something to its ledger between the ends of its first and of its last frame."""
    plan, events, came = lattice.open_plan(plan_file), [], []
    count, still, did = len(plan.tasks()), StandStill(), threading.Event()
    one_at_a_time = threading.Lock()

    def hear(event: lattice.Event) -> None:
        events.append(event)
        with one_at_a_time:
            if sum(isinstance(each, Started) for each in events) == count and not did.is_set():
                still.begin()

    thread = threading.Thread(target=lambda: came.append(plan.run(on_event=hear, **how)))
    thread.start()
    until(lambda: any(isinstance(event, Finished) for event in events))
    try:
        do(plan_file.with_name("room.ledger.sqlite"))
    finally:
        with one_at_a_time:
            did.set()
            still.end()
    thread.join(120)
    return came[0]


# --- orders ------------------------------------------------------------------------------------

ORDERS = [
    ("priority", '{"priority": 99999999999999999999, "at": []}'), ("priority", '{"priority": 1e400}'),
    ("priority", '{"priority": "high"}'), ("priority", "{}"), ("priority", '{"priority": null, "at": [5]}'),
    ("retry", '{"at": 7}'), ("retry", '{"at": [null]}'), ("drop", '{"at": ["light=nowhere"]}'),
    ("drop", '{"at": ["a/b/c/d"]}'), ("drop", '{"at": {"a": 1}}'), ("drop", "[1, 2]"), ("drop", "null"),
    ("drop", "not json"), ("drop", '{"at": ["\\u0000"]}'), ("add", '{"plan": 5}'), ("add", '{"plan": "/nowhere"}'),
    ("add", "{}"), ("dance", "{}"), ("", "{}"), (b"\xff\xfe", "{}"), ("stop", b"\xff"), ("stop", '{"now"'),
    (7, '"text"'), ("workers", '{"count": -3}'), ("spare", '{"count": 10000000000000000000000}'),
]  # fmt: skip


@pytest.mark.long
def test_whatever_stands_among_the_orders_is_refused_and_the_run_goes_on(plan_file: Path) -> None:
    def order(file: Path) -> None:
        with sqlite3.connect(file) as connection:
            connection.executemany("INSERT INTO orders (at, verb, details) VALUES (0, ?, ?)", ORDERS)
        connection.close()

    run = meanwhile(long_plan(plan_file, 400), order, workers=1)
    assert run.ok
    assert len(run.finished) == 16
    with sqlite3.connect(plan_file.with_name("room.ledger.sqlite")) as connection:
        rows = connection.execute("SELECT answer, refused FROM orders").fetchall()
    assert len(rows) == len(ORDERS) > 20
    assert all(answer and refused for answer, refused in rows), rows


@pytest.mark.long
def test_the_terminal_says_2_where_it_can_know_and_1_where_the_run_refuses(plan_file: Path, glat) -> None:
    steering = lattice.steering(plan_file)
    with pytest.raises(RunError, match="No run"):
        steering.pause()
    said: list = []

    def order(file: Path) -> None:
        for arguments in (
            ("priority", "99999999999999999999"), ("drop", "--at", "ligt=day"), ("add", "nowhere.lattice.yaml"),
            ("drop", "--at", "light=dai"),
        ):  # fmt: skip
            said.append((*glat(plan_file.parent, *arguments), arguments))

    assert meanwhile(long_plan(plan_file, 800, "1-2"), order, workers=1).ok
    assert [code for code, _, _ in said] == [2, 2, 2, 1], said
    assert not any("foresee" in text for _, text, _ in said)


def test_a_task_that_waits_for_another_try_can_be_dropped_hurried_and_revived() -> None:
    clock = [0.0]
    schedule = Schedule(
        np.arange(3), np.zeros(3, np.int32), np.zeros(3, np.int32), Patience(delay=100.0), lambda: clock[0]
    )
    assert [schedule.next() for _ in range(3)] == [0, 1, 2]
    assert [schedule.again(n) for n in range(3)] == [100.0] * 3
    assert schedule.drop(np.array([0])).tolist() == [0]
    assert schedule.prioritise(np.array([0, 5, 5], np.int32)) is None
    assert schedule.revive(np.array([2])).tolist() == [2]
    assert (schedule.next(), schedule.next()) == (2, None)
    schedule.ended(2)
    clock[0] = 101.0
    assert (schedule.next(), schedule.next()) == (1, None)
    schedule.ended(1)
    assert schedule.is_done
    assert schedule.unfinished == 0


def test_a_task_that_is_to_be_tried_again_where_no_worker_is_can_be_named() -> None:
    pools, clock = np.array([7, 0]), [0.0]
    schedule = Schedule(
        np.arange(2),
        np.zeros(2, np.int32),
        np.zeros(2, np.int32),
        Patience(delay=1.0),
        lambda: clock[0],
        pools,
    )
    assert [schedule.next(), schedule.next()] == [0, 1]
    schedule.again(0)  # its machine was lost, and there is no other of its pool
    schedule.ended(1)
    clock[0] = 5.0
    assert schedule.next(lambda pool: not pool) is None
    assert (schedule.first, schedule.is_done) == (0, False)
    assert schedule.next() == 0


def test_what_is_left_out_one_by_one_is_not_sorted_each_time() -> None:
    count = 300_000
    schedule = Schedule(
        np.arange(count), np.zeros(count, np.int32), np.zeros(count, np.int32), Patience(), time.monotonic
    )
    started = time.perf_counter()
    for k in range(2000):
        number = schedule.next()
        assert number == k
        schedule.leave_out(number)
    assert time.perf_counter() - started < 2.0
    assert schedule.unfinished == count - 2000


# --- ledgers -----------------------------------------------------------------------------------


def hold(file: Path) -> None:
    """Be a notebook that has the ledger open for longer than anybody waits."""
    connection = sqlite3.connect(file, isolation_level=None)
    connection.execute("BEGIN EXCLUSIVE" if file.stat().st_ino % 2 else "BEGIN IMMEDIATE")
    time.sleep(2.5)
    connection.execute("ROLLBACK")
    connection.close()


def read(file: Path) -> None:
    connection = sqlite3.connect(file, isolation_level=None)
    connection.execute("BEGIN")
    connection.execute("SELECT COUNT(*) FROM tasks").fetchone()
    time.sleep(2.5)
    connection.close()


def damage(file: Path) -> None:
    with file.open("r+b") as stream:
        for page in range(1, file.stat().st_size // 4096):
            stream.seek(page * 4096)
            stream.write(os.urandom(4096))
    for more in ("-wal", "-shm"):
        other = file.with_name(file.name + more)
        if other.exists():
            other.write_bytes(os.urandom(other.stat().st_size))


def take_away(file: Path) -> None:
    for path in file.parent.glob("room.ledger.sqlite*"):
        path.unlink()


def replace_by_garbage(file: Path) -> None:
    take_away(file)
    file.write_text("a shopping list " * 500)


def replace_by_nothing(file: Path) -> None:
    take_away(file)
    file.write_bytes(b"")


def replace_by_a_copy(file: Path) -> None:
    shutil.copy(file, file.with_name("copy"))
    take_away(file)
    file.with_name("copy").rename(file)


def replace_by_a_folder(file: Path) -> None:
    take_away(file)
    file.mkdir()


def replace_by_another_database(file: Path) -> None:
    take_away(file)
    with sqlite3.connect(file) as connection:
        connection.execute("CREATE TABLE recipes (name TEXT)")
    connection.close()


def drop_a_table(file: Path) -> None:
    with sqlite3.connect(file) as connection:
        connection.execute("DROP TABLE tasks")
    connection.close()


@pytest.mark.long
@pytest.mark.parametrize(
    "troubles",
    [(hold, read),
     (damage, take_away, replace_by_garbage, replace_by_nothing, replace_by_a_copy, replace_by_a_folder,
      replace_by_another_database, drop_a_table)],
)  # fmt: skip
def test_no_trouble_with_the_ledger_ends_a_run(plan_file: Path, troubles, monkeypatch) -> None:
    monkeypatch.setattr("grandlattice.runs.run_record._MEND_EVERY", 0.2)
    ledger = Ledger(plan_file.with_name("room.ledger.sqlite"))

    def one_after_the_other(file: Path) -> None:
        for trouble in troubles:
            until(lambda: file.is_file() and ledger.is_sound() and ledger.files())
            ledger.close()
            trouble(file)
            if trouble is not replace_by_a_copy:
                until(lambda: file.is_file() and ledger.is_sound())

    run = meanwhile(long_plan(plan_file, samples=900), one_after_the_other, workers=1)
    assert run.ok
    assert len(run.finished) == 16
    assert len(run.notes) == (0 if hold in troubles else 1)
    assert bool(run.ledger_aside) == (hold not in troubles)
    assert ledger.is_sound()
    assert len(ledger.files()) == 32
    assert lattice.status(plan_file).counts == {"done": 16}
    ledger.close()
    assert not lattice.open_plan(plan_file).run(workers=0).outlook.todo


@pytest.mark.long
@pytest.mark.parametrize("trouble", [take_away, replace_by_nothing, damage])
def test_a_ledger_that_is_lost_again_at_once_is_whole_in_the_end(plan_file: Path, trouble) -> None:
    # Between two mendings a passing question, such as for orders, began another ledger with an id of its own.
    def twice(file: Path) -> None:
        until(lambda: file.is_file() and Ledger(file).is_sound() and Ledger(file).files())
        for _ in range(4):
            with suppress(OSError):  # it is not there for some seconds
                trouble(file)
            time.sleep(0.5)

    run = meanwhile(long_plan(plan_file, samples=900), twice, workers=1)
    assert run.ok
    ledger = Ledger(plan_file.with_name("room.ledger.sqlite"))
    assert (ledger.id, len(ledger.files())) == (run.owner, 32)
    ledger.close()
    assert not lattice.open_plan(plan_file).run(workers=0).outlook.todo


# --- values on the command line ------------------------------------------------------------------


@pytest.mark.long
@pytest.mark.parametrize(
    "said",
    ["threads=2", "workers=1", "workers=2", "spare=0", "memory=8GB", "gentle=true", "retries=1", "stalled=5 min",
     "limit=1 h", "room=1 min", "budget.time=1 h", "budget.core-hours=9", "budget.until=07:00", "existing=replace",
     "wait=light", "wait=light,camera", "budget.cell=20 min", "budget.rate=2", "threads=1", "notices="],
)  # fmt: skip
def test_whatever_is_said_of_a_run_on_the_command_line_is_read_like_the_plan(plan_file, glat, said) -> None:
    if said == "notices=":
        code, text = glat(plan_file.parent, "run", "--at", "day/Front", "--run", said)
        assert (code, "foresee" in text) == (2, False)
        return
    from grandlattice.cli.shared_options import conduct_of

    block = lattice.open_plan(plan_file).conducted(**conduct_of(None, None, [said]))
    assert isinstance(block, RunBlock)
    if said in ("threads=2", "workers=1"):
        code, text = glat(plan_file.parent, "run", "--at", "day/Front", "--run", said)
        assert (code, "failed" in text) == (0, False), text


@pytest.mark.parametrize(
    "said",
    ["threads=x", "threads=0", "workers=-1", "workers=1.5", "workers=99999999999", "frames=1", "at=day", "into=x",
     "fresh=true", "on_event=print", "further=true", "memory=lots", "limit=-1", "budget.money=5", "budget=5",
     "budget.x=1", "=", "x", "gentle=maybe", "retries=1e9", "further", "self=1", "sets=a", "block=1"],
)  # fmt: skip
def test_what_cannot_be_said_of_a_run_is_a_mistake_and_no_accident(plan_file: Path, said: str) -> None:
    from grandlattice.cli.shared_options import conduct_of

    with pytest.raises(PlanError):
        lattice.open_plan(plan_file).conducted(**conduct_of(None, None, [said]))


# --- terminals -----------------------------------------------------------------------------------


BACKEND = """
from grandlattice.runs.local_backends import Processes
Processes._start = lambda *_: None  # as far as it comes before its workers begin
Processes(None, 1)
"""


@pytest.mark.long
@pytest.mark.parametrize(
    "how", ["full", "closed", "both closed", "all closed", "head", "ascii", "latin-1", "gone", "quiet"]
)
def test_no_trouble_with_the_terminal_ends_a_run(plan_file: Path, how: str) -> None:
    plan_file.write_text(plan_file.read_text().replace("light:\n", "light:\n    mörgen→:\n"))
    environment = {**os.environ, "COLUMNS": "80"}
    command: list[str] = [*GLAT, "run", "--workers", "0"]
    options: dict = {"cwd": plan_file.parent, "stdin": subprocess.DEVNULL}
    if how in ("ascii", "latin-1"):
        environment |= {"PYTHONIOENCODING": how}
        done = subprocess.run(command, env=environment, capture_output=True, check=False, **options)
        assert done.stdout.decode(how)
        assert b"Traceback" not in done.stderr
        code = done.returncode
    elif how == "full":
        with open("/dev/full", "w") as full:
            code = subprocess.run(
                command, env=environment, stdout=full, stderr=full, check=False, **options
            ).returncode
    elif how.endswith("closed"):
        closing = {"closed": ">&-", "both closed": ">&- 2>&-", "all closed": "<&- >&- 2>&-"}[how]
        line = f'exec "$@" {closing}'
        code = subprocess.run(
            ["sh", "-c", line, "sh", *command], env=environment, check=False, **options
        ).returncode
    elif how == "gone":
        master, slave = pty.openpty()
        process = subprocess.Popen(command, env=environment, stdout=slave, stderr=slave, **options)
        os.close(slave)
        os.read(master, 10)
        os.close(master)
        code = process.wait(120)
    else:
        process = subprocess.Popen(
            command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, **options
        )
        assert process.stdout is not None
        process.stdout.readline()
        process.stdout.close()
        assert process.stderr is not None
        said = process.stderr.read()
        assert b"Traceback" not in said
        assert b"BrokenPipe" not in said
        code = process.wait(120)
    assert code == 0
    assert len(list(plan_file.parent.glob("out/*/*.exr"))) == 6


@pytest.mark.parametrize("closed", ["<&-", ">&-", "2>&-", ">&- 2>&-", "<&- >&- 2>&-"])
@pytest.mark.parametrize("begun_by", ["import grandlattice.cli.main", BACKEND], ids=["command", "library"])
def test_no_file_of_ours_takes_the_place_of_a_standard_stream_that_was_closed(
    tmp_path: Path, closed: str, begun_by: str
) -> None:
    # A pipe to a worker that became descriptor 1 got whatever any library printed.
    said = "open('streams', 'w').write(' '.join(os.readlink(f'/proc/self/fd/{k}') for k in range(3)))"
    script = f"import os, sys\n{begun_by}\nprint('dropped', file=sys.stderr)\n{said}"
    line = f'exec "$@" {closed}'
    subprocess.run(
        ["sh", "-c", line, "sh", sys.executable, "-c", script], cwd=tmp_path, check=True, input=b"",
        capture_output=True,
    )  # fmt: skip
    inside, outside, trouble = (tmp_path / "streams").read_text().split()
    for stream, closing in ((inside, "<&-"), (outside, " >&-"), (trouble, "2>&-")):
        assert (stream == "/dev/null") == (closing in f" {closed}"), stream


# --- signals -------------------------------------------------------------------------------------


@pytest.mark.long
@pytest.mark.parametrize(
    ("number", "after"),
    [(signal.SIGINT, 0.1), (signal.SIGINT, 0.6), (signal.SIGINT, 1.5), (signal.SIGINT, None),
     (signal.SIGTERM, 0.4), (signal.SIGTERM, None), (signal.SIGHUP, 1.2), (signal.SIGHUP, None)],
)  # fmt: skip
def test_a_run_ends_in_order_whoever_asks(plan_file: Path, number: int, after: float | None) -> None:
    long_plan(plan_file, samples=1000, frames="1-40")
    # Before its first line Python itself ends in its own way; on a busy machine that takes a while.
    begins = "from grandlattice.cli import signals; signals.end_at_once(); print('begins', flush=True); "
    process = subprocess.Popen(
        [*GLAT[:2], begins + GLAT[2], "run", "--workers", "2"], cwd=plan_file.parent, start_new_session=True, text=True,
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT, bufsize=1,
        # Whoever began the tests may have had them ignored, as nohup does.
        preexec_fn=lambda: [signal.signal(each, signal.SIG_DFL) for each in (signal.SIGINT, signal.SIGHUP)],
    )  # fmt: skip
    assert process.stdout is not None
    said = process.stdout.readline()
    if after is None:
        while "1/160" not in said:
            said += process.stdout.readline()
    else:
        time.sleep(after)
    asked = time.monotonic()
    os.killpg(process.pid, number)
    said += process.communicate(timeout=60)[0]
    assert process.returncode == 128 + number, said
    assert number != signal.SIGTERM or time.monotonic() - asked < 5.0
    assert "Traceback" not in said, said
    assert "failed" not in said
    assert not list(plan_file.parent.rglob("*.part*"))
    assert not list(plan_file.parent.glob(".*.holder"))
    if plan_file.with_name("room.ledger.sqlite").exists() and after is None:
        status = lattice.status(plan_file)
        assert (status.under_way, status.state) == (False, "stopped")
        assert "failed" not in status.counts


@pytest.mark.long
def test_a_run_that_is_killed_leaves_nothing_behind_that_talks(plan_file: Path) -> None:
    process = subprocess.Popen(
        [*GLAT, "run", "--workers", "2"], cwd=long_plan(plan_file, 1500, "1-40").parent, stdout=subprocess.PIPE,
        stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    until(lambda: lattice.status(plan_file).counts.get("running"))
    process.kill()
    assert process.communicate(timeout=60)[1] == ""  # until the last that could write has ended


@pytest.mark.long
def test_what_nohup_has_ignored_stays_ignored(plan_file: Path) -> None:
    process = subprocess.Popen(
        ["nohup", *GLAT, "run", "--workers", "1"], cwd=long_plan(plan_file, 200, "1-2").parent, start_new_session=True,
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, bufsize=1,
    )  # fmt: skip
    assert process.stdout is not None
    while "1/8" not in process.stdout.readline():
        pass
    os.killpg(process.pid, signal.SIGHUP)
    process.communicate(timeout=60)
    assert process.returncode == 0


@pytest.mark.long
def test_a_detached_run_outlives_its_terminal_and_is_found(plan_file: Path, glat) -> None:
    code, said = glat(long_plan(plan_file, 1500, "1-40").parent, "run", "--workers", "1", "--detached")
    assert code == 0, said
    (log,) = plan_file.parent.glob("room.*.log")
    assert log.name in said
    until(lambda: lattice.status(plan_file).pid)
    status = lattice.status(plan_file)
    assert status.under_way
    assert os.getsid(status.pid) == status.pid
    assert glat(plan_file.parent, "stop", "--now")[0] == 0
    until(lambda: not psutil.pid_exists(status.pid) or not lattice.status(plan_file).under_way)
    plan_file.write_text("lattice: 1\nscene: nowhere.usda\n")
    code, said = glat(plan_file.parent, "run", "--detached")
    assert code != 0
    assert "nowhere.usda" in said


# --- renderers of others -------------------------------------------------------------------------

RENDERER = """\
import os, signal, subprocess, sys, time
import numpy as np, OpenImageIO as oiio
usd, output, width, height = sys.argv[1], sys.argv[2], int(sys.argv[3]), int(sys.argv[4])
how = {how!r}
def draw(value=0.5):
    spec = oiio.ImageSpec(width, height, 5, oiio.FLOAT)
    spec.channelnames = ("R", "G", "B", "A", "Z")
    out = oiio.ImageOutput.create(output); out.open(output, spec)
    pixels = np.full((height, width, 5), 0.5, np.float32); pixels[3, 2, 1] = value
    out.write_image(pixels); out.close()
if how == "helper":
    subprocess.Popen(["sleep", "300"])
elif how == "group":
    draw(); os.killpg(0, signal.SIGTERM); time.sleep(5)
elif how == "interrupt":
    os.kill(os.getppid(), signal.SIGINT); os.kill(os.getppid(), signal.SIGTERM)
elif how == "loud":
    for _ in range(30): sys.stdout.write("x" * 1_000_000)
    sys.stdout.flush()
elif how == "talkative":
    for k in range(200_000): print("line", k)
elif how == "binary":
    sys.stdout.buffer.write(os.urandom(3_000_000)); sys.stdout.flush()
elif how == "closes":
    os.close(1); os.close(2)
elif how == "waits":
    sys.stdin.read()
elif how == "wait forever":
    subprocess.Popen(["sleep", "299"]); print("here"); sys.stdout.flush(); time.sleep(300)
draw(float(how) if how in ("nan", "inf") else 0.5)
"""


def drawn_by(plan_file: Path, how: str, **more) -> lattice.Plan:
    plan_file.with_name("draw.py").write_text(RENDERER.replace("{how!r}", repr(how)))
    renderer = {
        "command": [sys.executable, "draw.py", "{usd}", "{output}", "{width}", "{height}"],
        "environment": {"OPENBLAS_NUM_THREADS": "1"}, **more,
    }  # fmt: skip
    text = plan_file.read_text().replace("samples: 4", "renderer: clay")
    plan_file.write_text(text + f"renderers: {json.dumps({'clay': renderer})}\nrun: {{retries: 0}}\n")
    return lattice.open_plan(plan_file)


def left_running(seconds: str) -> list[psutil.Process]:
    found = psutil.process_iter(["name", "cmdline"])
    return [p for p in found if p.info["name"] == "sleep" and seconds in (p.info["cmdline"] or ())]


@pytest.mark.long
@pytest.mark.parametrize(
    ("how", "ok"),
    [("helper", True), ("group", False), ("interrupt", True), ("loud", True), ("talkative", True),
     ("binary", True), ("closes", True), ("waits", True), ("nan", False), ("inf", False)],
)  # fmt: skip
def test_whatever_a_renderer_does_the_run_goes_on(plan_file: Path, how: str, ok: bool) -> None:
    run = drawn_by(plan_file, how).run(at=["day/Front"], workers=1, stalled="60 s")
    assert run.ok == ok, [failure.problem for failure in run.failures]
    assert how != "helper" or not left_running("300")
    assert not list(plan_file.parent.rglob("*.part*"))
    if how in ("nan", "inf"):
        assert "1 pixel of beauty" in run.failures[0].problem.what
        assert not list(plan_file.parent.glob("out/*/*.exr"))
    (finished,) = lattice.status(plan_file, states=["done", "failed"], logs=True).frames
    assert len(finished.log) < 20_000


def test_pictures_that_are_no_numbers_may_be_accepted(plan_file: Path) -> None:
    run = drawn_by(plan_file, "nan", accept="nan").run(at=["day/Front"], workers=0)
    assert run.ok
    assert "no numbers" in run.finished[0].result.notes[0]


def test_a_worker_that_is_killed_takes_its_renderer_along(plan_file: Path) -> None:
    plan, came = drawn_by(plan_file, "wait forever"), []
    thread = threading.Thread(target=lambda: came.append(plan.run(at=["day/Front"], workers=1)))
    thread.start()
    until(lambda: left_running("299"))
    (renderer,) = [p for p in psutil.process_iter(["cmdline"]) if "draw.py" in (p.info["cmdline"] or ())]
    renderer.parent().kill()
    thread.join(60)
    assert not came[0].ok
    until(lambda: not left_running("299"))


@pytest.mark.parametrize("megabytes", [100, 400, 1200, 1400, 2000, 2900])
@pytest.mark.parametrize("command", ["cells", "check", "run --workers 1"])
def test_a_shell_that_allows_little_memory_is_told_so(plan_file: Path, command: str, megabytes: int) -> None:
    glat = [sys.executable, "-m", "grandlattice", *command.split(), plan_file.name]
    limited = ["bash", "-c", f'ulimit -v {megabytes * 1000}; exec "$@"', "-", *glat]
    done = subprocess.run(limited, cwd=plan_file.parent, capture_output=True, text=True, timeout=120)
    assert done.returncode in (0, 1)
    if done.returncode:
        assert f"This shell allows {megabytes * 1.024e-3:.1f} GB of memory" in done.stderr
        assert "ulimit -v unlimited" in done.stderr
    floor = {"cells": 1500, "check": 2100}.get(command, 3000)
    assert (done.returncode == 0) == (megabytes * 1.024 >= floor + 100 * max(0, (os.cpu_count() or 1) - 2))


@pytest.mark.parametrize("spoil", [damage, take_away, replace_by_garbage, replace_by_nothing, replace_by_a_folder,
                                   replace_by_another_database, drop_a_table])  # fmt: skip
@pytest.mark.parametrize("when", ["note_tasks", "estimate", "begin_run"])
def test_a_ledger_that_is_lost_in_the_moment_a_run_begins_ends_nothing(
    plan_file: Path, monkeypatch, when: str, spoil: Callable[[Path], None]
) -> None:
    from grandlattice.api import orchestration

    room = orchestration if when != "begin_run" else Ledger
    real, struck = getattr(room, when), []

    def once(*arguments, **options):
        ledger = plan_file.with_name("room.ledger.sqlite")
        if not struck and ledger.exists():
            struck.append(ledger)
            spoil(ledger)
        return real(*arguments, **options)

    plan = lattice.open_plan(plan_file)
    assert plan.run(at=["day/Front"], workers=0).ok
    monkeypatch.setattr(room, when, once)
    run = plan.run(workers=0, existing="replace")
    assert struck
    assert run.ok, run.failures
    assert len(run.finished) == 4
    monkeypatch.undo()
    assert not lattice.open_plan(plan_file).run(workers=0).outlook.todo  # the pictures are known as ours
