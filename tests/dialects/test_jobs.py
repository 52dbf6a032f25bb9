"""Work that is waited for: the addresses, the key, giving up."""

import asyncio
import threading
import time
from typing import Any

import pytest

import agouti
from agouti.core.http.exchange import HttpReply
from agouti.standins import Served
from agouti.testing import FakeTransport

from ..conftest import Caller

MODEL = "potters/clinker-7b@kiln"
HOST = "https://kiln.example"
ENTRY = {
    "providers": {"kiln": {"address": f"{HOST}/v1", "dialect": "jobs", "key": {"env": "K"}, "retries": {"max": 1}}}
}


def job(status: str, host: str = HOST, **more: Any) -> dict[str, Any]:
    urls = {"get": f"{host}/v1/predictions/1", "cancel": f"{host}/v1/predictions/1/cancel"}
    return {"id": "1", "status": status, "urls": urls, **more}


def done(**more: Any) -> dict[str, Any]:
    return job("succeeded", output=["In ", "March."], **more)


BUSY = HttpReply(503, {}, b"")


def asked(replies: list[Any], **options: Any) -> tuple[agouti.Reply, FakeTransport]:
    fake = FakeTransport(replies)
    with agouti.Client(agouti.load_config(ENTRY, environment={"K": "kk"}), transport=fake) as client:
        return client.ask("a/b@kiln", "Peas?", **options), fake


def test_job_is_asked_about_until_it_is_done_and_nothing_is_cancelled() -> None:
    reply, fake = asked([job("starting"), job("processing"), done()])
    assert reply.text == "In March."
    assert [(each.method, each.url) for each in fake.requests] == [
        ("POST", f"{HOST}/v1/models/a/b/predictions"),
        ("GET", f"{HOST}/v1/predictions/1"),
        ("GET", f"{HOST}/v1/predictions/1"),
    ]
    assert fake.requests[0].headers["prefer"] == "wait=5"
    assert all("authorization" in each.headers for each in fake.requests)


@pytest.mark.parametrize("host", ["https://other.example", "http://kiln.example", "https://kiln.example:8443"])
def test_key_goes_to_the_providers_own_origin_only(host: str) -> None:
    _, fake = asked([job("starting", host), done()])
    assert fake.requests[1].url.startswith(host)
    assert "authorization" not in fake.requests[1].headers


def test_hiccup_while_waiting_does_not_start_the_work_again() -> None:
    reply, fake = asked([job("starting"), BUSY, done()])
    assert reply.text == "In March."
    assert [each.method for each in fake.requests] == ["POST", "GET", "GET"]
    lost = FakeTransport([job("starting"), BUSY, BUSY, job("canceled")])
    config = agouti.load_config(ENTRY, environment={"K": "kk"})
    with agouti.Client(config, transport=lost) as client, pytest.raises(agouti.Overloaded):
        client.ask("a/b@kiln", "Peas?")
    assert [each.url.rpartition("/")[2] for each in lost.requests] == ["predictions", "1", "1", "cancel"]


@pytest.mark.parametrize(
    ("reply", "error", "words"),
    [
        (job("failed", error="CUDA out of memory"), agouti.ProviderFault, "out of memory"),
        (job("failed", error="the prompt was blocked by moderation"), agouti.AgoutiError, "moderation"),
        (job("canceled"), agouti.ProviderFault, "canceled"),
        ({"id": "1", "status": "starting"}, agouti.ReplyUnreadable, "urls.get"),
        (job("starting", "ftp://x.example"), agouti.ReplyUnreadable, "address"),
        ({"detail": "no"}, agouti.ReplyUnreadable, "status"),
    ],
)
def test_what_goes_wrong_with_a_job_is_said(reply: Any, error: type[Exception], words: str) -> None:
    with pytest.raises(error, match=words):
        asked([reply, reply, reply])


def test_version_is_named_in_the_body(served: Served) -> None:
    with agouti.Client(served.config) as client:
        assert client.ask(f"potters/clinker-7b:{'5f' * 32}@kiln", "Garlic?").text.startswith("Garlic")


class Watched:
    """The requests for cancelling that a served provider gets."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch) -> None:
        from agouti.standins import jobs

        self.cancelled: list[str] = []
        watched = self

        class Job(jobs._Job):
            def __setattr__(self, name: str, value: Any) -> None:
                if name == "canceled" and value:
                    watched.cancelled.append(self.id)
                super().__setattr__(name, value)

        monkeypatch.setattr(jobs, "_Job", Job)


def test_who_leaves_a_stream_early_cancels_the_job(served: Served, monkeypatch: pytest.MonkeyPatch) -> None:
    watched = Watched(monkeypatch)
    with agouti.Client(served.config) as client, client.stream(MODEL, "Garlic?") as stream:
        next(iter(stream))
    assert len(watched.cancelled) == 1

    async def leave() -> None:
        async with agouti.AsyncClient(served.config) as client, client.stream(MODEL, "Garlic?") as stream:
            async for _ in stream:
                break

    asyncio.run(leave())
    assert len(watched.cancelled) == 2


def test_deadline_and_cancelled_task_cancel_the_job(
    served: Served, caller: Caller, monkeypatch: pytest.MonkeyPatch
) -> None:
    from agouti.standins import jobs

    watched = Watched(monkeypatch)
    monkeypatch.setattr(jobs, "_AT_WORK", 30.0)
    config = agouti.load_config(
        {
            "providers": {
                "kiln": {
                    "address": served.address("kiln"),
                    "dialect": "jobs",
                    "key": {"env": "KILN_KEY"},
                    "headers": {"prefer": "wait=0"},
                }
            }
        },
        environment=served.environment,
    )
    with pytest.raises(agouti.DeadlineExceeded):
        caller.ask(config, MODEL, "Garlic?", deadline=1.0)
    assert len(watched.cancelled) == 1
    if caller.kind == "sync":
        return

    async def give_up() -> None:
        async with agouti.AsyncClient(config) as client:
            task = asyncio.create_task(client.ask(MODEL, "Garlic?"))
            await asyncio.sleep(0.5)
            task.cancel()
            with pytest.raises(asyncio.CancelledError):
                await task

    asyncio.run(give_up())
    assert len(watched.cancelled) == 2


def test_many_threads_wait_side_by_side(served: Served) -> None:
    started = time.monotonic()
    with agouti.Client(served.config) as client:
        replies: list[str] = []
        threads = [
            threading.Thread(target=lambda: replies.append(client.ask(MODEL, "Garlic?").text)) for _ in range(12)
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(20)
    assert len(replies) == 12
    assert time.monotonic() - started < 10
