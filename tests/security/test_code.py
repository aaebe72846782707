"""Python that people bring: only admins do, however it comes, and what runs is kept apart."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from reedbasket.client import Client, ServiceProblem
from reedbasket.core.runs import RunOutcome
from tests.conftest import RunningService
from tests.kit.test_connectors import BASKET, HEAD, run
from tests.support.feeds import table_rows

WRITES = "import pathlib; pathlib.Path({path!r}).write_text('ran')\n"
TRIES = """
    boxes = Table(primary_key="id")
    def read_boxes(self, position):
        import ctypes, multiprocessing, resource, signal, socket, subprocess, sys
        def tried(name, attempt):
            try:
                return {"id": name, "done": repr(attempt())}
            except BaseException as error:
                return {"id": name, "done": "", "why": type(error).__name__}
        libc = ctypes.CDLL(None, use_errno=True)
        def raw(number, *values):
            if libc.syscall(number, *values) < 0:
                raise OSError(ctypes.get_errno())
            return "done"
        yield tried("tcp", lambda: socket.create_connection(("127.0.0.1", PORT), 2))
        yield tried("udp", lambda: socket.socket(socket.AF_INET, socket.SOCK_DGRAM).sendto(b"x", ("127.0.0.1", 9)))
        yield tried("unix", lambda: socket.socket(socket.AF_UNIX))
        yield tried("netlink", lambda: socket.socket(16, 3))
        yield tried("a child's socket", lambda: subprocess.run(
            [sys.executable, "-c", "import socket; socket.socket()"], check=True, capture_output=True))
        yield tried("signal", lambda: os.kill(VICTIM, signal.SIGKILL))
        yield tried("signal to all", lambda: os.kill(-1, signal.SIGCONT))
        yield tried("signal by descriptor", lambda: signal.pidfd_send_signal(os.pidfd_open(VICTIM), signal.SIGKILL))
        yield tried("limits of others", lambda: resource.prlimit(VICTIM, resource.RLIMIT_NOFILE, (1, 1)))
        yield tried("leave the group", os.setsid)
        yield tried("leave the group by fork", lambda: subprocess.Popen(["sleep", "60"], start_new_session=True))
        yield tried("trace", lambda: raw({"x86_64": 101, "aarch64": 117}[os.uname().machine], 16, VICTIM, 0, 0))
        yield tried("io_uring", lambda: raw(425, 4, ctypes.create_string_buffer(120)))
        yield tried("memory", lambda: open(f"/proc/{VICTIM}/mem", "rb"))
        yield tried("environment", lambda: open(f"/proc/{VICTIM}/environ", "rb").read())
        yield tried("the parent's files", lambda: os.listdir(f"/proc/{os.getppid()}/fd"))
        yield tried("the folder of the run", lambda: os.listdir("FOLDER"))
        subprocess.Popen(["sleep", "3131"])  # stays in the group, and goes with it
        yield {"id": "itself", "done": "yes"}
"""


def test_a_connector_reaches_nothing_but_what_it_is_given(tmp_path: Path) -> None:
    victim = subprocess.Popen(["sleep", "600"])
    try:
        code = TRIES.replace("PORT", "9").replace("VICTIM", str(victim.pid)).replace("FOLDER", str(tmp_path))
        result, kept = run(code, "http://127.0.0.1:9", tmp_path)
        assert result.outcome is RunOutcome.SUCCEEDED, (result.error, kept.lines)
        rows = {row["id"]: row for row in table_rows(tmp_path, "boxes")}
        assert {name for name, row in rows.items() if row["done"]} == {"itself"}, rows
        assert len(rows) == 18 and victim.poll() is None
        listed = subprocess.run(["ps", "-eo", "args="], capture_output=True, text=True).stdout
        assert "sleep 3131" not in listed
    finally:
        victim.send_signal(signal.SIGKILL)
        victim.wait()


@pytest.mark.parametrize(
    "way", ["a program within YAML", "a program in settings", "any class", "a draft", "any class in a draft"]
)
def test_code_is_code_however_it_comes(service: RunningService, tmp_path: Path, way: str) -> None:
    ran = tmp_path / "ran"
    editor = Client(service.url, service.client.tokens.add("editor", "editor")["token"])
    program = WRITES.format(path=str(ran)) + HEAD + '    boxes = Table(primary_key="id")\n'
    text = BASKET.format(url="http://127.0.0.1:9", more="", table="")
    inside = text.replace(
        "type: python",
        f"type: python\nprogram: {json.dumps(program)}\ndescribed: true\nbase_url: x\ntables: [{{table: boxes, get: /}}]",
    )
    foreign = text.replace("code: lockers.py", "code: tests.security.test_code:Lockers")
    with pytest.raises(ServiceProblem) as refused:
        if way == "a program within YAML":
            editor.definitions.apply({"b.yaml": inside})
        elif way == "a program in settings":
            editor.definitions.apply(
                {"b.yaml": text}, settings={"s.yaml": f"connector: lockers\nprogram: {json.dumps(program)}\ndescribed: true\n"}
            )
        elif way == "any class":
            editor.definitions.apply({"b.yaml": foreign})
        elif way == "a draft":
            editor.drafts.check(inside, "test")
        else:
            editor.drafts.check(foreign, "test")
    codes = {mistake["code"] for mistake in refused.value.details or []}
    assert codes & {"definition.reserved_key", "definition.code_needs_admin", "definition.code_not_found"}, (
        refused.value.problem
    )
    time.sleep(0.1)
    assert not ran.exists() and os.environ and sys.executable
