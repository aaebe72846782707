"""Looking with definitions that are not in force; and what came in over time."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest

from reedbasket.client import ServiceProblem
from tests.conftest import RunningService
from tests.core.test_requests import basket
from tests.support.feeds import SECRET
from tests.support.source import Answer, Request, serving

ROWS = [{"id": n, "updated_at": "2026-01-01T00:00:00Z"} for n in range(7)]


def test_a_draft_is_looked_with_and_leaves_nothing_behind(service: RunningService) -> None:
    client = service.client
    client.secrets.set("test_token", SECRET)

    def answer(request: Request) -> Answer:
        return Answer({"rows": ROWS, "token": request.headers.get("x-key")}, 200 if "x-key" in request.headers else 401)

    sign_in = 'auth: {type: api_key, in: header, name: X-Key, key: "{settings.token}"}'
    with serving(answer) as source:
        draft = basket(
            source.url, "\n  - {table: rides, get: /rides, records: rows, primary_key: id}", "tables: [rides]", sign_in
        )
        assert [step["ok"] for step in client.drafts.check(draft, "test")] == [True] * 7
        (table,) = client.drafts.survey(draft, "test")
        assert (table["table"], table["records"]) == ("rides", 7)
        tried = client.drafts.try_table(draft, "test", "rides")
        assert (tried["pages"], tried["suggested"]["key"][0]["say"]) == ([7], "id")
        assert SECRET not in str(tried)
        assert client.drafts.plan(draft, "test")["tables"][0]["table"] == "rides"
        assert (client.sources.list(), client.feeds.list(), client.definitions.list()) == ([], [], [])
        looked = [line["what"] for line in client.audit() if line["what"].endswith("draft")]
        assert sorted(looked) == ["check draft", "plan draft", "survey draft", "try draft"]
        with pytest.raises(ServiceProblem) as wrong:
            client.drafts.try_table(draft.replace("primary_key: id", "keys: id"), "test", "rides")
        assert (wrong.value.status, wrong.value.details[0]["file"]) == (422, "draft.yaml")

        before = client.activity(1)
        assert len(before["parts"]) == 6 and before["feeds"] == {}
        client.definitions.apply({"basket.yaml": draft})
        client.sources.check("test")
        client.feeds.run("test", wait_seconds=30)
        client.feeds.run("test", wait_seconds=30)
    found = client.activity(24)
    begin = datetime.fromisoformat(found["parts"][-1]["at"])
    assert found["step_seconds"] == 1800 and 0 <= (datetime.now(UTC) - begin).total_seconds() < 1900
    sums = {name: sum(part[name] for part in found["parts"]) for name in ("read", "written", "runs", "failed")}  # type: ignore[literal-required]
    assert sums == {"read": 14, "written": 7, "runs": 2, "failed": 0}
    assert sum(found["feeds"]["test"]) == 7
    assert not [line for line in client.audit() if line["what"] == "check one source"], "a look changes nothing"
