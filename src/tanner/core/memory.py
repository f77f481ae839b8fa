"""What is remembered with a frame while it is open: each kind of thing is declared where it is made, as a `Slot`."""

from collections.abc import Callable, Hashable, Iterator
from dataclasses import dataclass
from typing import Any, Generic, TypeVar, cast

T = TypeVar("T")
_MISSING = object()


@dataclass(frozen=True, eq=False)
class Slot(Generic[T]):
    """One kind of thing that is remembered.

    Attributes:
        keep: so many are held, by key; the oldest goes first. 0: all of them.
        heavy: takes room: given up where only what is small may stay.
        shared: true of the frame whatever its noise, so that its denoised versions take it over.
    """

    name: str
    keep: int = 1
    heavy: bool = False
    shared: bool = False


class Memory:
    """Things by slot and key. Two threads may make the same thing at once; the one that is kept first stays."""

    def __init__(self) -> None:
        self._held: dict[Slot[Any], dict[Hashable, Any]] = {}

    def get(self, slot: Slot[T], key: Hashable, make: Callable[[], T]) -> T:
        """What is remembered, or made now and remembered."""
        # Looked up once: another thread may evict it between two looks.
        found = self._held.get(slot, {}).get(key, _MISSING)
        return self.put(slot, key, make()) if found is _MISSING else cast(T, found)

    def find(self, slot: Slot[T], key: Hashable) -> T | None:
        held = self._held.get(slot)
        return None if held is None else held.get(key)

    def put(self, slot: Slot[T], key: Hashable, thing: T) -> T:
        held = self._held.setdefault(slot, {})
        thing = cast(T, held.setdefault(key, thing))
        if slot.keep:
            # A copy of the keys: another thread may be at it.
            for old in list(held)[: max(0, len(held) - slot.keep)]:
                held.pop(old, None)
        return thing

    def all(self, *slots: Slot[T]) -> Iterator[T]:
        """Everything that is held in some slots."""
        for slot in slots:
            yield from list(self._held.get(slot, {}).values())

    def drop(self, slot: Slot[T], key: Hashable) -> T | None:
        """Forget one thing; what it was."""
        return cast(T | None, self._held.get(slot, {}).pop(key, None))

    def keys(self, slot: Slot[Any]) -> list[Hashable]:
        return list(self._held.get(slot, {}))

    def lighten(self) -> None:
        """Give up all that takes room."""
        for slot in [s for s in self._held if s.heavy]:
            self._held.pop(slot, None)

    def clear(self) -> None:
        self._held.clear()

    def take_shared(self, other: "Memory") -> None:
        """Take over what is true of a frame whatever its noise."""
        for slot, held in list(other._held.items()):
            if slot.shared:
                self._held.setdefault(slot, {}).update(held)
