"""Sums of chance: how many of a thing come out, as the probability of each count, worked out and never sampled.

A distribution is an array: at index n the probability that n of the thing come out. Independent draws are convolved,
alternatives are mixed.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

Counts: TypeAlias = NDArray[np.float64]
"""The probability of each count, from 0 on; they sum to 1."""
_LONG = 1024
"""Above this length, convolving by Fourier transform is quicker."""
_SHORT = 64
_UNLIKELY = 1e-17
"""Numbers between 0 and 1 are kept to 16 digits."""
NONE: Counts = np.ones(1)


@lru_cache(maxsize=256)
def uniform(least: int, most: int) -> Counts:
    """Return the distribution of a count from ``least`` to ``most``, each as likely."""
    found: Counts = np.zeros(most + 1)
    found[least:] = 1.0 / (most - least + 1)
    found.flags.writeable = False  # it is given out again and again
    return found


def both(one: Counts, other: Counts) -> Counts:
    """Return the distribution of the sum of two independent counts."""
    if len(one) == 1 or len(other) == 1:
        scaled: Counts = one * other[0] if len(other) == 1 else other * one[0]
        return scaled
    if min(len(one), len(other)) < _LONG:
        return _trimmed(np.convolve(one, other))
    size = len(one) + len(other) - 1
    length = 1 << (size - 1).bit_length()
    found: Counts = np.fft.irfft(np.fft.rfft(one, length) * np.fft.rfft(other, length), length)[:size]
    return _trimmed(np.clip(found, 0.0, None))


def _trimmed(counts: Counts) -> Counts:
    """Leave out the highest counts where all of them together are less likely than a number of ours can tell."""
    if len(counts) < _SHORT or counts[-1] > _UNLIKELY:
        return counts
    tail = np.cumsum(counts[::-1])
    return counts[: len(counts) - int(np.searchsorted(tail, _UNLIKELY))]


def mixed(parts: Sequence[tuple[float, Counts]]) -> Counts:
    """Return the distribution of a count that comes from one of several, with the weight of each."""
    if len(parts) == 1:
        return parts[0][0] * parts[0][1]
    found = np.zeros(max(len(counts) for _, counts in parts))
    for weight, counts in parts:
        found[: len(counts)] += weight * counts
    return found


def perhaps(chance: float, counts: Counts) -> Counts:
    """Return the distribution of a count that comes with a chance, and else is 0."""
    found: Counts = chance * counts
    found[0] += 1.0 - chance
    return found


def repeated(counts: Counts, times: int) -> Counts:
    """Return the distribution of the sum of so many independent counts of one kind."""
    found: Counts = NONE
    power = counts
    while times:
        if times & 1:
            found = both(found, power)
        times >>= 1
        if times:
            power = both(power, power)
    return found


def repeated_between(counts: Counts, least: int, most: int) -> Counts:
    """Return the distribution of the sum of ``least`` to ``most`` counts, each number as likely."""
    if least == most:
        return counts if least == 1 else repeated(counts, least)
    share = 1.0 / (most - least + 1)
    so_far = repeated(counts, least)
    parts = [(share, so_far)]
    for _ in range(most - least):
        so_far = both(so_far, counts)
        parts.append((share, so_far))
    return mixed(parts)


def without_repetition(weights: Sequence[float], drawn: Mapping[int, Counts], times: int) -> Counts:
    """Return the distribution of a count where so many different entries are drawn, one after the other, by weight.

    ``weights`` are those of all entries, none of them 0; ``drawn`` has the distribution of each entry that gives the
    thing. Each entry is given a clock that rings after an exponential time with its weight as the rate: the first
    ``times`` that ring are those drawn. What is left is an integral over the time of the last of them.
    """
    if times >= len(weights):
        found: Counts = NONE
        for counts in drawn.values():
            found = both(found, counts)
        return found
    if times < 1:
        return NONE
    if min(weights) == max(weights):
        return _alike(len(weights), list(drawn.values()), times)
    for step in (0.05, 0.02, 0.008):
        found = _integrated(weights, drawn, times, step)
        if abs(found.sum() - 1.0) < 1e-11:
            break
    normal: Counts = found / found.sum()
    return normal


def _alike(many: int, drawn: list[Counts], times: int) -> Counts:
    """Return the distribution where all weights are the same: every choice of entries is as likely."""
    chosen: list[Counts] = [NONE]  # by how many of those that give the thing are among the chosen, each way once
    for counts in drawn:
        longer = [both(drawn, counts) for drawn in chosen]
        chosen = [
            mixed([(1.0, part) for part in (stay, more) if part is not None])
            for stay, more in zip([*chosen, None], [None, *longer], strict=True)
        ]
    others = many - len(drawn)
    ways = math.comb(many, times)
    return mixed(
        [
            (math.comb(others, times - number) / ways, counts)
            for number, counts in enumerate(chosen)
            if 0 <= times - number <= others
        ]
    )


def _integrated(weights: Sequence[float], drawn: Mapping[int, Counts], times: int, step: float) -> Counts:
    """Integrate over the time of the last draw, by the double exponential rule (Takahasi and Mori, 1974)."""
    points = np.arange(-4.0, math.log(60.0 * sum(weights) / min(weights)) + 1.0, step)
    clock = np.exp(points - np.exp(-points))
    widths = step * clock * (1.0 + np.exp(-points))
    size = 1 + sum(len(counts) - 1 for counts in drawn.values())
    shape = (len(points), times, size)
    plain, last = np.zeros(shape), np.zeros(shape)
    plain[:, 0, 0] = 1.0
    for at, weight in enumerate(weights):
        rate = weight / sum(weights)
        waits = np.exp(-rate * clock)[:, None, None]
        counts = drawn.get(at)
        more = plain if counts is None else _along(plain, counts)
        last_more = last if counts is None else _along(last, counts)
        last = waits * last + rate * waits * more + _shifted((1.0 - waits) * last_more)
        plain = waits * plain + _shifted((1.0 - waits) * more)
    found: Counts = (widths[:, None] * last[:, times - 1, :]).sum(axis=0)
    return found


def _shifted(values: Counts) -> Counts:
    """Count one more as drawn; what is more than may be drawn falls off."""
    found = np.zeros_like(values)
    found[:, 1:, :] = values[:, :-1, :]
    return found


def _along(values: Counts, counts: Counts) -> Counts:
    """Convolve along the axis of counts."""
    found = np.zeros_like(values)
    size = values.shape[2]
    for at, chance in enumerate(counts):
        if chance and at < size:
            found[:, :, at:] += chance * values[:, :, : size - at]
    return found


def mean_of(counts: Counts) -> float:
    """Return the expected count."""
    return float(counts @ np.arange(len(counts)))


def spread_of(counts: Counts) -> float:
    """Return the standard deviation of the count."""
    numbers = np.arange(len(counts))
    mean = counts @ numbers
    return math.sqrt(max(0.0, float(counts @ (numbers - mean) ** 2)))


def between(counts: Counts, low: float = 0.1, high: float = 0.9) -> tuple[int, int]:
    """Return the counts between which most openings lie: the quantiles ``low`` and ``high``."""
    summed = np.cumsum(counts)
    last = len(counts) - 1
    return (
        min(last, int(np.searchsorted(summed, low - 1e-12))),
        min(last, int(np.searchsorted(summed, high - 1e-12))),
    )
