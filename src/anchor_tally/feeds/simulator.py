"""A simulated scale as a separate process on a pseudo-terminal.

Run it by ``python -m anchor_tally.feeds.simulator --profile feet``.

It prints the path to connect to. A line ``GO`` from the other side is a person stepping on; with
``--auto N`` people step on by themselves. ``--trouble`` mixes in nonsense, half lines or a
broken connection.
"""

from __future__ import annotations

import argparse
import os
import select
import sys
import time
import tty
from pathlib import Path

import numpy as np

from .protocol import Line, Live, format_line
from .scale import PROFILES, Person, greeting, measure

TROUBLES = ("nonsense", "half", "drop", "unsettled")


class SimulatedScale:
    """The device's end of a pseudo-terminal."""

    def __init__(self, link: Path | None) -> None:
        self.link = link
        self.master, self.slave = -1, -1
        self.open()

    def open(self) -> None:
        """Open a pseudo-terminal; ``link`` leads to it, whichever it is."""
        self.master, self.slave = os.openpty()
        tty.setraw(self.slave)
        os.set_blocking(self.master, False)
        self.path = os.ttyname(self.slave)
        if self.link is not None:
            fresh = self.link.with_name(self.link.name + ".new")
            fresh.unlink(missing_ok=True)
            fresh.symlink_to(self.path)
            fresh.replace(self.link)

    def close(self) -> None:
        """Break the connection."""
        os.close(self.slave)
        os.close(self.master)

    def send(self, data: bytes) -> None:
        """Send bytes; what does not fit because nobody reads is lost, as on a real line."""
        try:
            os.write(self.master, data)
        except BlockingIOError:
            return

    def asked(self, seconds: float) -> bool:
        """Wait for a line; whether it asks for a measurement."""
        ready, _, _ = select.select([self.master], [], [], seconds)
        return bool(ready) and b"GO" in os.read(self.master, 1000)


def parser() -> argparse.ArgumentParser:
    """The simulator's own command line."""
    p = argparse.ArgumentParser(description=__doc__)
    p.add_argument("--profile", choices=sorted(PROFILES), default="feet")
    p.add_argument("--mass", type=float, default=72.0, help="kg")
    p.add_argument("--fat", type=float, default=18.0, help="percent")
    p.add_argument("--wet", type=float, default=0.0, help="water above the usual, points")
    p.add_argument("--week", type=float, default=0.0, help="weeks since the scale was new")
    p.add_argument("--athlete", action="store_true", help="athlete setting on")
    p.add_argument(
        "--auto",
        type=int,
        default=0,
        metavar="N",
        help="N people step on by themselves, then it ends",
    )
    p.add_argument("--speed", type=float, default=1.0, help="times as fast as a real device")
    p.add_argument("--seed", type=int)
    p.add_argument("--link", type=Path, help="a fixed path that leads to the pseudo-terminal")
    p.add_argument("--trouble", default="", help=f"comma-separated: {', '.join(TROUBLES)}")
    return p


def _send(
    device: SimulatedScale, line: Line, troubles: set[str], rng: np.random.Generator, pause: float
) -> None:
    data = (format_line(line) + "\n").encode()
    if "nonsense" in troubles and rng.random() < 0.3:
        device.send(bytes(rng.integers(32, 255, 20).tolist()) + b"\n")
    if "half" in troubles:
        device.send(data[: len(data) // 2])
        time.sleep(pause)
        data = data[len(data) // 2 :]
    device.send(data)


def main(argv: list[str] | None = None) -> int:
    """Run until the number of people is reached, or for ever."""
    args = parser().parse_args(argv)
    troubles = {t for t in args.trouble.split(",") if t}
    if not troubles <= set(TROUBLES):
        parser().error(f"trouble is one of {', '.join(TROUBLES)}")
    rng = np.random.default_rng(args.seed)
    profile, person = PROFILES[args.profile], Person(args.mass, args.fat, args.wet, args.week)
    device = SimulatedScale(args.link)
    print(args.link or device.path, flush=True)  # noqa: T201  (the path is this program's answer)
    tally = 0
    while args.auto == 0 or tally < args.auto:
        if not (device.asked(0.2 if args.auto == 0 else 0.4 / args.speed) or args.auto):
            continue
        tally += 1
        if tally == 1:
            _send(device, greeting(profile), troubles, rng, 0.01)
        for pause, line in measure(profile, person, tally, rng, athlete=args.athlete):
            time.sleep(pause / args.speed)
            if "unsettled" in troubles and isinstance(line, Live):
                line = Live(line.kg, False)
            _send(device, line, troubles, rng, 0.02 / args.speed)
            if "drop" in troubles and tally == 1 and isinstance(line, Live) and line.settled:
                device.close()
                time.sleep(0.5 / args.speed)
                device.open()
                break
    time.sleep(0.2)
    device.close()
    return 0


if __name__ == "__main__":
    sys.exit(main())
