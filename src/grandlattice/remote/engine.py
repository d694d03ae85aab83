"""The engine of a cluster, as far as it is used: `distributed`, asked for as little as can be.

All that is known of its insides stands here and in `slot.is_wanted`.
"""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from typing import Any

_ANSWER = 30.0  # seconds a slot may take to answer a question


class Engine:
    """A connection to a scheduler and its workers.

    Parameters
    ----------
    connect : makes a ``distributed.Client``, connected; again when the scheduler was away for long.

    Raises
    ------
    RunError
        When no scheduler answers.
    """

    def __init__(self, connect: Callable[[], Any]) -> None:
        self._connect, self._client = connect, connect()
        self._topics: dict[str, Callable[[tuple[float, Any]], None]] = {}
        self._line: Any = None  # on which topics were asked for

    @property
    def is_there(self) -> bool:
        """Whether the scheduler answers."""
        return bool(self._client.status == "running")

    def addresses(self) -> list[str]:
        """Addresses of all workers.

        The client's own list is not asked: the client empties it when it looks after the scheduler.
        """
        self._ask_for_topics()
        asked = self._client.sync(
            self._client._run_on_scheduler, _addresses_on, wait=True, callback_timeout=_ANSWER
        )
        return list(asked)

    def ask(self, question: Any, *words: Any, workers: list[str], seconds: float = _ANSWER) -> dict[str, Any]:
        """Have workers answer something, at once, besides what they do: address → answer."""
        # What `Client.run` does, and no longer than that.
        answers = self._client.sync(
            self._client._run, question, *words, workers=workers, callback_timeout=seconds
        )
        return dict(answers)

    def ask_one(self, question: Any, *words: Any, worker: str, seconds: float = _ANSWER) -> Any:
        """The answer of one worker; one that takes time is a coroutine there, so that the worker goes on."""
        return self.ask(question, *words, workers=[worker], seconds=seconds)[worker]

    def submit(self, work: Any, *words: Any, key: str, worker: str) -> Any:
        """Hand a task to one worker, and to no other; never again by itself."""
        return self._client.submit(
            work, *words, key=key, workers=[worker], allow_other_workers=False, pure=False, retries=0
        )

    def cancel(self, future: Any) -> None:
        """Say that a task is not waited for."""
        with suppress(Exception):
            self._client.cancel([future], asynchronous=False)

    def listen(self, topic: str, hear: Callable[[tuple[float, Any]], None]) -> None:
        """Be told of what workers say under a topic."""
        self._topics[topic] = hear
        self._ask_for_topics()

    def _ask_for_topics(self) -> None:
        """Ask for them on a new line: a scheduler that was away, or is another one, knows nothing of it."""
        line = self._client.scheduler_comm
        if line is not self._line:
            for topic, hear in self._topics.items():
                self._client.subscribe_topic(topic, hear)
            self._line = line

    def connect_again(self) -> None:
        """Connect anew where the client has given up, which it does when the scheduler is away for long.

        Raises
        ------
        LatticeError
            When no scheduler answers still.
        """
        if self._client.status == "closed":
            self._client = self._connect()

    def close(self, seconds: float) -> None:
        """End the connection, and a cluster that was begun for it."""
        with suppress(Exception):
            self._client.close(timeout=seconds)
        cluster = getattr(self._client, "cluster", None)
        if cluster is not None:
            with suppress(Exception):
                cluster.close(timeout=seconds)


def _addresses_on(dask_scheduler: Any) -> list[str]:
    return list(dask_scheduler.workers)
