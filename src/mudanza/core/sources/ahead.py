"""Work ahead of whoever takes its results."""

from __future__ import annotations

from collections.abc import Iterator
from queue import Queue
from threading import Thread
from typing import TypeVar

T = TypeVar("T")


def read_ahead(items: Iterator[T], ahead: int = 2) -> Iterator[T]:
    """The same items, the next ones being made in another thread meanwhile. Order and errors are kept."""
    queue: Queue[tuple[str, T | BaseException | None]] = Queue(ahead)
    given_up = False

    def work() -> None:
        try:
            for item in items:
                if given_up:
                    return
                queue.put(("item", item))
            queue.put(("end", None))
        except BaseException as error:  # handed to the thread that reads
            queue.put(("error", error))

    thread = Thread(target=work, daemon=True)
    thread.start()
    try:
        while True:
            what, value = queue.get()
            if what == "end":
                return
            if isinstance(value, BaseException):
                raise value
            yield value  # type: ignore[misc]
    finally:
        given_up = True
        while not queue.empty():
            queue.get_nowait()
