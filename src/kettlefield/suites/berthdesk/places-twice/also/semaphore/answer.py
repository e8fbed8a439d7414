import asyncio
import sys


class Desk:
    """Places left on each sailing, in a store that answers a moment later."""

    def __init__(self):
        self._left = {}
        self._one = asyncio.Semaphore(1)

    async def ask(self, sailing):
        await asyncio.sleep(0)
        return self._left.get(sailing)

    async def store(self, sailing, places):
        await asyncio.sleep(0)
        self._left[sailing] = places

    async def book(self, sailing, wanted):
        """Whether a party of that many could be booked."""
        async with self._one:
            if (left := await self.ask(sailing)) is not None and left >= wanted:
                await self.store(sailing, left - wanted)
                return True
        return False


async def main():
    desk, parties, sailings = Desk(), [], []
    for line in sys.stdin:
        word, sailing, number = line.split()
        if word == "sailing":
            sailings.append(sailing)
            await desk.store(sailing, int(number))
        else:
            parties.append((word, sailing, int(number)))
    done = await asyncio.gather(*(desk.book(sailing, wanted) for _, sailing, wanted in parties))
    for (name, sailing, _), booked in zip(parties, done):
        print(name, sailing, "booked" if booked else "full")
    for sailing in sailings:
        print("left", sailing, await desk.ask(sailing))


asyncio.run(main())
