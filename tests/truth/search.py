"""Looks for a history that breaks a promise, and makes it as short as can be."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import hypothesis
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

from tests.support.feeds import SECRETS
from tests.support.maria import LOG, Maria
from tests.support.warehouses import Cluster
from tests.truth import over_files, over_http, over_sql
from tests.truth.history import Player, Wrong
from tests.truth.houses import Houses
from tests.truth.scene import MUTATIONS, History, Round, Scene
from tests.truth.serving import Host

# {a warehouse: its server}.
_SERVERS = {"postgres": "cluster", "mysql": "maria"}
SOURCES = ("http", "files", "sqlite", "postgres", "mariadb")


class Servers:
    """What histories are played against: each is started where one needs it first."""

    def __init__(self) -> None:
        self.host = Host()
        self._cluster: Cluster | None = None
        self._maria: Maria | None = None
        self._stores: dict[str, str] = {}
        self._open = ExitStack()

    def store(self, kind: str, folder: Path) -> str:
        """Where a store shows the folder's `in`, in a definition's words."""
        if kind == "folder":
            return "path: in"
        if kind not in self._stores:
            SECRETS["word"] = "pass word/+="
            # A bucket is no folder: what it holds is put into it.
            shown = self._open.enter_context(tempfile.TemporaryDirectory()) if kind == "bucket" else folder.parent
            self._stores[kind] = self._open.enter_context(over_files.SERVERS[kind](Path(shown)))
        url, _, rest = self._stores[kind].partition("\n")
        return f"{url.rstrip('/')}/{folder.name}/in\n{rest}"

    def ports(self, warehouses: Sequence[str]) -> dict[str, int]:
        """Of the servers that these need, by their names."""
        return {name: getattr(self, _SERVERS[name]).port for name in warehouses if name in _SERVERS}

    @property
    def cluster(self) -> Cluster:
        if self._cluster is None:
            self._cluster = Cluster(["wal_level=logical", "max_replication_slots=20"])
        return self._cluster

    @property
    def maria(self) -> Maria:
        if self._maria is None:
            self._maria = Maria(LOG)
        return self._maria

    def close(self) -> None:
        self.host.close()
        self._open.close()
        for server in (self._cluster, self._maria):
            if server is not None:
                server.stop()


@dataclass
class Found:
    """played: histories; problem: of the first that was wrong, with the shortest history that is wrong alike; '' for none."""

    played: int
    problem: str


@st.composite
def histories(draw: Any, source: str, faults: int, kills: bool) -> History:
    """faults: of one run, at most. kills: some runs are killed too."""
    way: Any = {"http": over_http, "files": over_files}.get(source, over_sql)
    declared = draw(way.declarations(source) if way is over_sql else way.declarations())
    fitting = way.faults_of(declared)
    # What a killed run appended of everything may be there or not, and comes once more either way.
    kills = kills and (declared.by, declared.write) != ("full", "append")
    rounds = []
    for _ in range(draw(st.integers(1, 3))):
        mutations = draw(st.lists(st.tuples(st.sampled_from(MUTATIONS), st.integers(0, 9)), max_size=5))
        chosen = draw(
            st.lists(st.tuples(st.sampled_from(fitting), st.integers(0, 2)), max_size=faults, unique_by=lambda f: f[0])
        )
        killed = draw(st.floats(0.03, 0.25)) if kills and draw(st.integers(0, 3)) == 3 else None
        rounds.append(Round(tuple(mutations), tuple(way.compatible(chosen)), killed))
    return History(declared, draw(st.integers(0, 999)), draw(st.sampled_from([0, 1, 3, 4, 5, 8, 9, 13, 40])), tuple(rounds))


def scene_of(history: History, servers: Servers, folder: Path) -> Scene:
    declared: Any = history.declared
    if isinstance(declared, over_http.Declaration):
        return over_http.HttpScene(declared, history.seed, servers.host)
    if isinstance(declared, over_files.Declaration):
        return over_files.FilesScene(declared, history.seed, folder, servers.store(declared.store, folder))
    return over_sql.scene(declared, history.seed, servers, folder)


def play(history: History, servers: Servers) -> None:
    """Raises Wrong."""
    with tempfile.TemporaryDirectory(prefix="reed-truth-") as folder:
        houses = Houses(history.declared.warehouses, Path(folder), servers.ports(history.declared.warehouses))
        scene = scene_of(history, servers, Path(folder))
        try:
            Player(history, scene, houses).play()
        finally:
            scene.close()
            houses.close()


def search(
    seed: int,
    servers: Servers,
    *,
    examples: int,
    sources: Sequence[str] = SOURCES,
    ends: float = float("inf"),
    faults: int = 2,
    kills: bool = False,
    shorten: bool = True,
) -> Found:
    """ends: on the monotonic clock; no new history begins after it. faults: of one run, at most; none: all must be right and green."""
    played = 0

    @hypothesis.seed(seed)
    @settings(
        max_examples=examples,
        database=None,
        deadline=None,
        suppress_health_check=list(HealthCheck),
        phases=[Phase.generate, Phase.shrink] if shorten else [Phase.generate],
        print_blob=False,
        report_multiple_bugs=False,
    )
    @given(st.sampled_from(list(sources)).flatmap(lambda source: histories(source, faults, kills)))
    def each(history: History) -> None:
        nonlocal played
        if time.monotonic() > ends:
            return
        played += 1
        try:
            play(history, servers)
        except Wrong as wrong:
            raise Wrong(f"{wrong}\n{history}") from None

    try:
        each()
    except Wrong as wrong:
        return Found(played, str(wrong))
    except Exception as crash:
        return Found(played, f"{type(crash).__name__}: {crash}\n" + "\n".join(getattr(crash, "__notes__", [])))
    return Found(played, "")
