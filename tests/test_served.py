"""The page from a server: it follows a run, keeps choices, hands orders on, and lets nobody else in."""

from __future__ import annotations

import http.client
import json
import os
import re
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

import grandlattice as lattice
from conftest import PLAN
from test_page import ARGUMENTS, CHROMIUM, until

pytest.importorskip("uvicorn")


class Server:
    """``glat review --serve`` as a process of its own."""

    def __init__(self, plan: Path, command: tuple[str, ...] = ("review", "--serve")) -> None:
        command = (sys.executable, "-m", "grandlattice", command[0], plan.name, *command[1:])
        environment = {**os.environ, "COLUMNS": "200", "NO_COLOR": "1", "PYTHONUNBUFFERED": "1"}
        self.process = subprocess.Popen(
            command,
            cwd=plan.parent,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            env=environment,
        )
        assert self.process.stdout is not None
        said = self.process.stdout.readline()
        said = said if "token" in said else self.process.stdout.readline()
        found = re.search(r"(https?)://([\d.]+):(\d+)/\?token=([\w-]+)", said)
        assert found, said + (self.process.stdout.read() or "")
        self.address, self.host, self.port, self.token = found[0], found[2], int(found[3]), found[4]

    def ask(
        self, path: str, method: str = "GET", body: object = None, token: str | None = None, **headers: str
    ):
        """Status and body of an answer; the token of this server by default."""
        sent = {"Cookie": f"grand-lattice={self.token if token is None else token}"} | {
            k.replace("_", "-"): v for k, v in headers.items()
        }
        data = None if body is None else body if isinstance(body, bytes) else json.dumps(body).encode()
        if data is not None:
            sent.setdefault("Content-Type", "application/json")
        connection = http.client.HTTPConnection(self.host, self.port, timeout=20)
        connection.request(method, path, data, sent)
        answer = connection.getresponse()
        found = answer.status, answer.read(), dict(answer.getheaders())
        connection.close()
        return found

    def end(self) -> str:
        self.process.send_signal(signal.SIGINT)
        rest, _ = self.process.communicate(timeout=20)
        assert self.process.returncode in (0, 130), rest
        return rest


@pytest.fixture
def served(plan_file: Path) -> Iterator[Server]:
    assert lattice.open_plan(plan_file).run(workers=0).ok
    server = Server(plan_file)
    yield server
    if server.process.poll() is None:
        rest = server.end()
        assert server.token not in rest
        assert "Traceback" not in rest


@pytest.mark.long
def test_only_pages_of_this_server_come_in(served: Server, plan_file: Path) -> None:
    assert served.ask("/")[0] == 200
    assert served.ask("/told.js")[0] == 200
    for token in ("", "x", served.token[:-1], served.token + "x", "é"):
        assert served.ask("/", token=token)[0] == 403, token
        assert served.ask("/choices", "POST", {}, token=token)[0] == 403
    for host in ("evil.example", f"evil.example:{served.port}", "", f"127.0.0.1:{served.port + 1}"):
        assert served.ask("/", Host=host)[0] in (400, 403), host
    for origin in (
        "null",
        "http://evil.example",
        f"https://127.0.0.1:{served.port}",
        f"http://127.0.0.1:{served.port}.evil.example",
    ):
        assert served.ask("/choices", "POST", {}, Origin=origin)[0] == 403, origin
    assert served.ask("/choices", "POST", {}, Origin=f"http://127.0.0.1:{served.port}")[0] == 200
    for method in ("PUT", "DELETE", "OPTIONS", "TRACE"):
        assert served.ask("/", method)[0] == 405
    code, _, headers = served.ask(f"/?token={served.token}", token="")
    assert code == 303
    cookie = headers["set-cookie"].lower()
    assert "httponly" in cookie
    assert "samesite=strict" in cookie
    assert (
        served.ask(f"/told.js?token={served.token}", token="")[0] == 403
    )  # in the address of the page alone


@pytest.mark.long
def test_nothing_outside_the_folder_is_handed_out(served: Server, plan_file: Path) -> None:
    folder = plan_file.parent / "room-page"
    (plan_file.parent / "secret.js").write_text("secret")
    (folder / "link.js").symlink_to(plan_file.parent / "secret.js")
    (folder / "deep").symlink_to(plan_file.parent, target_is_directory=True)
    (folder / "other.txt").write_text("no kind of the page")
    paths = [
        "/../secret.js", "/..%2fsecret.js", "/%2e%2e/secret.js", "/%252e%252e/secret.js", "/px/../../secret.js", "//secret.js",
        "/link.js", "/deep/secret.js", "/other.txt", "/written.json", "/%00", "/px", "/" + "a/" * 2000, "/..\\secret.js",
        f"/{plan_file.parent}/secret.js", "/room.lattice.yaml", "/small/../../room.lattice.yaml",
    ]  # fmt: skip
    for path in paths:
        code, body, _ = served.ask(path)
        assert (code in (400, 404), b"secret" in body) == (True, False), path
    code, _, headers = served.ask("/page.js")
    assert (code, headers["x-content-type-options"], headers["content-type"].split(";")[0]) == (
        200,
        "nosniff",
        "text/javascript",
    )


@pytest.mark.long
def test_choices_are_kept_beside_the_run_and_wrong_ones_are_not(served: Server, plan_file: Path) -> None:
    note = "<script>alert(1)</script> \u202e " + "x" * 10_000
    code, body, _ = served.ask("/choices", "POST", {"day/Front": {"by": "keep", "note": note, "at": 10}})
    assert code == 200
    assert json.loads(body)["came of it"]["day/Front"]["by"] == "keep"
    served.ask(
        "/choices",
        "POST",
        {"day/Front": {"by": "out", "note": "", "at": 9}, "day/Side": {"by": "maybe", "note": "", "at": 1}},
    )
    choices = lattice.open_plan(plan_file).choices()
    assert (choices["day/Front"].by, choices["day/Front"].note, choices["day/Side"].by) == (
        "keep",
        note,
        "maybe",
    )
    wrong = [
        {"a": {"by": "best"}},
        {"a": 3},
        [],
        "x",
        None,
        b"{",
        b"[" * 100_000,
        {"a": {"by": "keep", "at": "NaN"}},
    ]
    for body in wrong:
        assert served.ask("/choices", "POST", b"null" if body is None else body)[0] == 400, body
    assert served.ask("/choices", "POST", b"{}", Content_Type="text/plain")[0] == 400
    assert served.ask("/choices", "POST", b'"' + b"x" * 6_000_000 + b'"')[0] == 400
    assert len(lattice.open_plan(plan_file).choices()) == 2


@pytest.mark.long
def test_orders_reach_the_plan_and_say_what_stands_in_the_way(served: Server, plan_file: Path) -> None:
    code, body, _ = served.ask("/order", "POST", {"order": "pause"})
    assert (code, json.loads(body)["problem"]) == (409, "No run of this plan is under way.")
    for order in (
        {"order": "_order"},
        {"order": "__init__"},
        {"order": "drop"},
        {"order": "add", "plan": "/etc/passwd"},
        {},
    ):
        assert served.ask("/order", "POST", order)[0] == 409, order
    code, body, _ = served.ask("/order", "POST", {"order": "adopt", "axes": {"light": "dusk"}})
    assert code == 409
    assert plan_file.read_text() == PLAN
    code, body, _ = served.ask("/order", "POST", {"order": "adopt", "axes": {"light": "night"}})
    assert (code, json.loads(body)["came of it"]) == (200, "2 of 4 cells stay")
    assert len(lattice.open_plan(plan_file).cells) == 2


def test_what_the_page_hands_back_is_written_into_the_plan(plan_file: Path) -> None:
    from grandlattice.api.page_orders import change

    sweep = '  turn:\n    sweep: {from: 0, to: 20, step: 10}\n    edits: [{turn-to: {on: /World/Lights/Key, y: "{turn}"}}]\n'
    plan_file.write_text(
        PLAN.replace("  camera:\n", sweep + "  camera:\n").replace("{light}/", "{light}/{turn}-")
    )

    def handed(verb: str, **details: object) -> str:
        return change(lattice.open_plan(plan_file), verb, details)

    names = {cell.address for cell in lattice.open_plan(plan_file).cells}
    assert handed("finer", axis="turn", between=["10", "20"]).startswith("4 more cells")
    plan = lattice.open_plan(plan_file)
    assert {cell.coordinates["turn"] for cell in plan.cells} == {"00", "10", "15", "20"}
    assert names < {cell.address for cell in plan.cells}
    handed("grade", at=["day/10/Front"], values={"contrast": 1.2, "mid-tones": 0.1})
    handed("relight", at=["light=day"], lamps={"Key": [2.5, "#ffbc00"]})
    handed("amend", at=["light=day"], settings={"fstop": 4, "focus": "2.5 m"})
    cell = lattice.open_plan(plan_file).cells["day/10/Front"]
    assert (cell.settings.fstop, cell.settings.focus.in_units(1.0)) == (4.0, 2.5)
    assert cell.settings.graded["contrast"] == 1.2
    edit = cell.edits[-1].edit
    assert (edit.verb, edit.body.on, edit.body.model_extra) == (
        "multiply",
        ["//Key"],
        {"intensity": "2.5", "color": ["1", "0.5029", "0"]},
    )
    text = plan_file.read_text()
    for verb, details in (
        ("relight", {"lamps": {"Nobody": [1, "#ffffff"]}}),
        ("relight", {"lamps": {"Key": [-1, "#ffffff"]}}),
        ("relight", {"lamps": {}}),
        ("amend", {"settings": {"output": "../x.exr"}}),
        ("amend", {"settings": {"fstop": "wide"}}),
        ("finer", {"axis": "light", "between": ["day", "night"]}),
        ("finer", {"axis": "turn", "between": ["10", "99"]}),
        ("grade", {"values": {"contrast": 99.0}}),
    ):
        with pytest.raises(lattice.LatticeError):
            handed(verb, **details)
        assert plan_file.read_text() == text, verb


@pytest.mark.long
def test_pixels_are_made_when_they_are_asked_for(served: Server, plan_file: Path) -> None:
    told = served.ask("/told.js")[1].decode()
    keys = json.loads(told.removeprefix("PAGE.told(").rstrip(");\n"))["pixels"]
    folder = plan_file.parent / "room-page"
    assert len(keys) == 8
    assert not (folder / "px").exists()
    code, body, headers = served.ask(f"/px/{keys[0]}.js")
    assert (code, headers["content-type"].partition(";")[0]) == (200, "text/javascript")
    assert body.startswith(f'PAGE.put("{keys[0]}"'.encode())
    assert lattice.open_plan(plan_file).page().written > 0  # as it is opened from the disk
    assert (folder / f"px/{keys[0]}.js").read_bytes() == body
    for wrong in ("px/aa-1-0.js", f"px/{keys[0]}.exr", "px/../told.js.js"):
        assert served.ask(f"/{wrong}")[0] == 404, wrong


@pytest.mark.long
def test_a_thousand_connections_that_break_off_are_survived(served: Server) -> None:
    request = f"GET /events HTTP/1.1\r\nHost: 127.0.0.1:{served.port}\r\nCookie: grand-lattice={served.token}\r\n\r\n".encode()
    for k in range(1000):
        with socket.create_connection((served.host, served.port), timeout=10) as connection:
            connection.sendall(request[: len(request) - k % 3 * 20])
            if k % 300 == 0:
                connection.recv(10)
    assert served.ask("/")[0] == 200
    assert served.process.poll() is None


def test_where_a_page_cannot_be_served_is_said(plan_file: Path, glat) -> None:
    assert lattice.open_plan(plan_file).run(workers=0, at="day/Front").ok
    plan_file.with_name("bad.pem").write_text("no PEM")
    plan_file.with_name("other.lattice.yaml").write_text(PLAN)
    plan_file.with_name("both.queue.yaml").write_text("plans: [room.lattice.yaml, other.lattice.yaml]\n")
    with socket.create_server(("127.0.0.1", 0)) as taken:
        for words, code, says in (
            (["--listen", "192.0.2.7"], 2, "needs TLS"),
            (["--listen", "0.0.0.0"], 2, "no address that a browser could ask for"),
            (["--certificate", "bad.pem", "--key", "bad.pem"], 1, "is no certificate"),
            (["--port", str(taken.getsockname()[1])], 1, "name another --port"),
            (["--choices", "bad.pem"], 1, "is no file of choices"),
        ):
            found = glat(plan_file.parent, "review", "room.lattice.yaml", "--serve", *words)
            assert (found[0], says in found[1]) == (code, True), found
    found = glat(plan_file.parent, "review", "both.queue.yaml", "--serve")
    assert (found[0], "served of one plan, and here are 2" in found[1]) == (2, True), found


@pytest.mark.long
def test_ctrl_c_ends_live_proofs_that_are_under_way(plan_file: Path) -> None:
    plan_file.write_text(
        PLAN.replace("samples: 4", "samples: 4").replace(
            "axes:", "qualities:\n  proof: {samples: 200000}\naxes:"
        )
    )
    server = Server(plan_file, command=("live",))
    folder = plan_file.with_name("room-live")
    end = time.monotonic() + 30.0
    while not (folder / "room.ledger.sqlite").exists():
        assert time.monotonic() < end
        time.sleep(0.1)
    time.sleep(1.0)
    started = time.monotonic()
    server.end()
    assert time.monotonic() - started < 15.0
    assert not list(folder.glob("*.exr"))


@pytest.mark.long
@pytest.mark.skipif(CHROMIUM is None, reason="Chromium is not installed")
def test_a_page_follows_a_run_and_steers_it(plan_file: Path) -> None:
    playwright = pytest.importorskip("playwright.sync_api")
    plan_file.write_text(PLAN.replace("samples: 4", "samples: 64"))
    server = Server(plan_file)  # before anything is rendered
    with playwright.sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
        page = browser.new_page()
        page.set_default_timeout(60_000)
        wrong: list[str] = []
        page.on("pageerror", lambda error: wrong.append(str(error)))
        page.on(
            "request",
            lambda request: (
                None
                if f":{server.port}/" in request.url or request.url.startswith(("data:", "blob:"))
                else wrong.append(request.url)
            ),
        )
        page.goto(server.address)
        until(page, "window.page?.served")
        assert "token" not in page.url
        assert page.evaluate("page.told.cells.every((cell) => cell.s === 'not rendered')")
        page.keyboard.press("k")
        running = threading.Thread(target=lambda: lattice.open_plan(plan_file).run(workers=1))
        running.start()
        page.evaluate("page.update({ panel: 'run' })")
        until(page, "page.told.cells.filter((cell) => cell.f.length).length === 4")
        running.join()
        until(page, "page.served.run?.under_way === false")
        assert page.locator("aside h2").inner_text() == "The run is over: done"
        assert page.evaluate("page.choices['day/Front'].by") == "keep"
        page.keyboard.press("Enter")
        until(page, "page.panes.picture(page.state.at, 'beauty') !== null")
        browser.close()
    assert wrong == []
    assert lattice.open_plan(plan_file).choices()["day/Front"].by == "keep"
    rest = server.end()
    assert server.token not in rest


@pytest.mark.long
def test_a_served_page_that_nobody_looks_at_takes_next_to_nothing(served: Server) -> None:
    import psutil

    process = psutil.Process(served.process.pid)
    before = sum(process.cpu_times()[:2])
    time.sleep(4.0)
    assert sum(process.cpu_times()[:2]) - before < 0.4  # of 4 s


def test_a_change_that_is_taken_back_before_it_was_proofed_leaves_no_mark(
    plan_file: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from grandlattice.api.live_proofs import LiveProofs
    from grandlattice.runs import Workshop

    def fails(*words: object) -> None:
        raise lattice.SceneError("The lamp fell over.")

    live, told = LiveProofs(plan_file, at=["light=night"], width=24), list[dict]()
    live.look(told.append)
    plan_file.write_text(PLAN.replace("intensity: 2", "intensity: 3"))
    with monkeypatch.context() as patch:
        patch.setattr(Workshop, "perform", fails)
        live.look(told.append)
    assert told[-1]["problem"]
    plan_file.write_text(PLAN)
    live.look(told.append)
    assert (told[-1]["problem"], live.tries[-1].cells) == ("", [])
    assert "out of date" not in (live.folder / "told.js").read_text()


@pytest.mark.long
def test_a_save_is_a_try_and_a_broken_one_leaves_what_stands(plan_file: Path) -> None:
    from grandlattice.api.live_proofs import LiveProofs

    text = PLAN.replace("own-trace: true ", "")
    plan_file.write_text(text)
    before = {path: path.read_bytes() for path in plan_file.parent.iterdir() if path.is_file()}
    live = LiveProofs(plan_file, width=24)
    told: list[dict] = []
    live.look(told.append)
    assert [event["kind"] for event in told] == ["cells", "cells", "live"]  # the first as it arrives
    assert sorted(live.tries[-1].cells) == ["day/Front", "day/Side", "night/Front", "night/Side"]
    pages = live.folder / "told.js"
    assert '"w":24' in pages.read_text()
    told.clear()
    live.look(told.append)
    assert told == []  # nothing was saved
    # What is on show comes first; what did not change is not proofed again.
    assert live.order("showing", {"at": ["night/Side"]}) == ""
    plan_file.write_text(text.replace("intensity: 2", "intensity: 3"))
    live.look(told.append)
    assert {event["kind"] for event in told[:-1]} == {"cells"}
    assert told[-1]["kind"] == "live"
    assert live.tries[-1].cells == ["night/Side", "night/Front"]
    assert live.tries[-1].changed == ["-            intensity: 2", "+            intensity: 3"]
    told.clear()
    standing = pages.read_bytes()
    for broken in (
        "axes: [",
        text.replace("/World/Lights/Key", "/World/Lights/Nobody"),
        "",
        text[: len(text) // 2],
    ):
        plan_file.write_text(broken)
        live.look(told.append)
        assert told[-1]["problem"], broken
        assert len(live.tries) == 2
        assert pages.read_bytes() == standing
    # An earlier try is restored, but not over what somebody else has written meanwhile.
    with pytest.raises(lattice.PlanError, match="was changed since it was read"):
        live.order("restore", {"try": 1})
    plan_file.write_text(text.replace("intensity: 2", "intensity: 3"))
    live.look(told.append)
    assert (told[-1]["problem"], live.tries[-1].cells) == ("", [])
    assert live.order("restore", {"try": 1}) == "the plan is as in try 1"
    assert plan_file.read_text() == text
    live.look(told.append)
    assert sorted(live.tries[-1].cells) == ["night/Front", "night/Side"]
    with pytest.raises(lattice.PlanError, match="not kept"):
        live.order("restore", {"try": 99})
    # The scene, saved by another program; nothing but the folder of proofs is written.
    scene = plan_file.with_name("room.usda")
    held = scene.read_text()
    scene.write_text(held + "\n# saved\n")
    live.look(told.append)
    assert live.tries[-1].changed == ["room.usda"]
    scene.write_text(held)
    after = {path: path.read_bytes() for path in plan_file.parent.iterdir() if path.is_file()}
    assert after == before
