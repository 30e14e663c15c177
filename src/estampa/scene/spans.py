"""Cubic spans through frames, by least squares: where keys stand, what they hold, and which of them are not wanted.

A channel is a chain of cubic Hermite spans between keys; value and slope of each key are chosen so that the squares
of what is off, over all frames, are least (as Schneider 1990, "An algorithm for automatically fitting digitized
curves", fits one span; here all spans of a channel at once, since neighbours share a key). What counts is not the
channel itself but where the joints below it end up, which is linear in a small change: see `Felt`.
"""

from typing import NamedTuple

import numpy as np
from numba import njit

BESIDE = 5  # keys on each side of one that is taken away, that are fitted anew
LEAN = 0.01  # how strongly a channel is drawn to what it was, of how strongly to what the tips ask
STEEP = 1e-4  # the same for its slope at keys, so that one between two frames is not left to chance
MOST = 2.0  # squares of tolerances; from there on what is off counts no more than that


class Felt(NamedTuple):
    """What one unit of a channel does to the joints below it, and how far off these are, all in tolerances.

    off, moves (f, d, 3) of places of tips, and then of how joints are turned; counts (d,) how much each is fitted to
    """

    off: np.ndarray
    moves: np.ndarray
    counts: np.ndarray


class Spans(NamedTuple):
    """The keys of one channel, of which the first `count` are used.

    at (f,) frames; value, slope (f,) of each key; is_round: both ends hold value and slope, since the last frame is
    the first again
    """

    at: np.ndarray
    value: np.ndarray
    slope: np.ndarray
    is_round: bool


@njit(cache=True, nogil=True)
def _cubic(f, a, b, share):
    """Shares of (value, slope) at a and at b in what a span is at f (Hermite's cubic basis)."""
    span = b - a
    t = (f - a) / span
    r = 1 - t
    share[0], share[1] = r * r * (1 + 2 * t), span * t * r * r
    share[2], share[3] = t * t * (3 - 2 * t), -span * t * t * r


@njit(cache=True, nogil=True)
def drawn(spans, count, result):
    """What spans are at each frame that they reach over."""
    share = np.empty(4)
    at, value, slope = spans.at, spans.value, spans.slope
    for i in range(count - 1):
        for f in range(at[i], at[i + 1] + 1):
            _cubic(f, at[i], at[i + 1], share)
            result[f] = share[0] * value[i] + share[1] * slope[i] + share[2] * value[i + 1] + share[3] * slope[i + 1]


@njit(cache=True, nogil=True)
def fitted(spans, count, weight, wanted, steep, held_slopes):
    """Values and slopes by weighted least squares; both ends keep their value, and their slope where that is held.

    weight, wanted, steep (f,) -- of each frame, what it is to be, and the slope that it is drawn to
    The normal equations have a band of four, and are solved by Cholesky's method.
    """
    at, value, slope = spans.at, spans.value, spans.slope
    size = 2 * count
    band, right, share = np.zeros((size, 4)), np.zeros(size), np.empty(4)  # band[i, d] is row i, column i - d
    mean, frames = 0.0, at[count - 1] - at[0] + 1
    for i in range(count - 1):
        for f in range(at[i], at[i + 1] + (1 if i == count - 2 else 0)):
            _cubic(f, at[i], at[i + 1], share)
            mean += weight[f] / frames
            for p in range(4):
                for q in range(p + 1):
                    band[2 * i + p, p - q] += weight[f] * share[p] * share[q]
                right[2 * i + p] += weight[f] * share[p] * wanted[f]
    for i in range(count):
        band[2 * i, 0] += 1e-12 * mean
        right[2 * i] += 1e-12 * mean * value[i]
        band[2 * i + 1, 0] += STEEP * mean
        right[2 * i + 1] += STEEP * mean * steep[at[i]]
    held = 1e9 * mean + 1e-30
    for i in (0, count - 1):
        band[2 * i, 0] += held
        right[2 * i] += held * value[i]
        if held_slopes:
            band[2 * i + 1, 0] += held
            right[2 * i + 1] += held * slope[i]
    for j in range(size):
        for k in range(max(j - 3, 0), j + 1):
            left = band[j, j - k]
            for c in range(max(j - 3, k - 3, 0), k):
                left -= band[j, j - c] * band[k, k - c]
            band[j, j - k] = np.sqrt(max(left, 1e-300)) if j == k else left / band[k, 0]
    for j in range(size):
        for k in range(max(j - 3, 0), j):
            right[j] -= band[j, j - k] * right[k]
        right[j] /= band[j, 0]
    for j in range(size - 1, -1, -1):
        for k in range(j + 1, min(j + 4, size)):
            right[j] -= band[k, k - j] * right[k]
        right[j] /= band[j, 0]
    ends = (value[0], value[count - 1], slope[0], slope[count - 1])
    for i in range(count):
        value[i], slope[i] = right[2 * i], right[2 * i + 1]
    value[0], value[count - 1] = ends[0], ends[1]
    if held_slopes:
        slope[0], slope[count - 1] = ends[2], ends[3]


@njit(cache=True, nogil=True)
def spread(spans, close, values, steep, now):
    """Keys until every frame of a channel is within `close` of its value: the count of them. now (f,) is what they
    give."""
    at, last = spans.at, len(values) - 1
    at[0], at[1], count = 0, last, min(2, last + 1)
    evenly, more = np.ones(last + 1), np.empty(last + 1, np.int64)
    while True:
        for i in range(count):
            spans.value[i], spans.slope[i] = values[at[i]], steep[at[i]]
        if count < 2:
            now[:] = values
            return count
        fitted(spans, count, evenly, values, steep, spans.is_round)
        drawn(spans, count, now)
        found = 0
        for i in range(count - 1):
            more[found] = at[i]
            found += 1
            ends = max(abs(now[at[i]] - values[at[i]]), abs(now[at[i + 1]] - values[at[i + 1]]))
            worst, where = ends, (at[i] + at[i + 1]) // 2
            for f in range(at[i] + 1, at[i + 1]):
                if abs(now[f] - values[f]) > worst:
                    worst, where = abs(now[f] - values[f]), f
            if worst > close and at[i + 1] - at[i] > 1:
                more[found] = where
                found += 1
        more[found] = last
        found += 1
        if found == count:
            return count
        at[:found] = more[:found]
        count = found


@njit(cache=True, nogil=True)
def _asked(felt, first, last, values, now, weight, wanted):
    """What the tips ask of a channel at frames: (weight, wanted) of each. What is far off counts more, so that the
    largest is small and not only the mean."""
    for f in range(first, last + 1):
        heavy, pull = 0.0, 0.0
        for d in range(felt.off.shape[1]):
            far, own, along = _products(felt.off[f, d], felt.moves[f, d])
            count = felt.counts[d] + 10 * min(far, MOST) ** 2
            heavy += count * own
            pull += count * along
        pull += LEAN * heavy * (now[f] - values[f])
        weight[f] = (1 + LEAN) * heavy + 1e-30
        wanted[f] = now[f] - pull / weight[f]


@njit(cache=True, nogil=True)
def _products(a, b):
    """(a.a, b.b, a.b) of two vectors (3,)"""
    return (
        a[0] * a[0] + a[1] * a[1] + a[2] * a[2], b[0] * b[0] + b[1] * b[1] + b[2] * b[2],
        a[0] * b[0] + a[1] * b[1] + a[2] * b[2],
    )  # fmt: skip


@njit(cache=True, nogil=True)
def _furthest(felt, f, change):
    """How many tolerances frame f is off after a change of the channel."""
    worst = 0.0
    for d in range(felt.off.shape[1]):
        far, own, along = _products(felt.off[f, d], felt.moves[f, d])
        worst = max(worst, far + change * (2 * along + change * own))
    return np.sqrt(worst)


@njit(cache=True, nogil=True)
def _take(felt, first, last, now, made):
    for f in range(first, last + 1):
        for d in range(felt.off.shape[1]):
            for c in range(3):
                felt.off[f, d, c] += felt.moves[f, d, c] * (made[f] - now[f])
        now[f] = made[f]


@njit(cache=True, nogil=True)
def _stays(values, made, first, last):
    """Whether frames stay within the range of a channel, widened by half of it on each side."""
    low, high = values.min(), values.max()
    far = 0.5 * (high - low)
    for f in range(first, last + 1):
        if not low - far <= made[f] <= high + far:
            return False
    return True


@njit(cache=True, nogil=True)
def settled(felt, spans, count, values, steep, now):
    """Fit a channel to what the tips ask, where that does not put any frame further off than the worst was."""
    last = len(values) - 1
    weight, wanted, made = np.empty(last + 1), np.empty(last + 1), np.empty(last + 1)
    old = spans.value[:count].copy(), spans.slope[:count].copy()
    _asked(felt, 0, last, values, now, weight, wanted)
    fitted(spans, count, weight, wanted, steep, spans.is_round)
    drawn(spans, count, made)
    before, after = 0.0, 0.0
    for f in range(last + 1):
        before, after = max(before, _furthest(felt, f, 0.0)), max(after, _furthest(felt, f, made[f] - now[f]))
    if after <= max(before, 0.3) and _stays(values, made, 0, last):
        _take(felt, 0, last, now, made)
    else:
        spans.value[:count], spans.slope[:count] = old


@njit(cache=True, nogil=True)
def thinned(felt, spans, count, within, values, steep, now):
    """Take keys away one by one, fit those beside it anew, and leave it so where every frame stays within so many
    tolerances. Returns the count of keys that are left."""
    at, value, slope = spans.at, spans.value, spans.slope
    frames = len(values)
    weight, wanted, made = np.empty(frames), np.empty(frames), np.empty(frames)
    few = Spans(np.empty(2 * BESIDE, np.int64), np.empty(2 * BESIDE), np.empty(2 * BESIDE), True)
    i = 1
    while i < count - 1:
        low, high, left = max(i - BESIDE, 0), min(i + BESIDE, count - 1), 0
        for j in range(low, high + 1):
            if j != i:
                few.at[left], few.value[left], few.slope[left] = at[j], value[j], slope[j]
                left += 1
        first, last = at[low], at[high]
        _asked(felt, first, last, values, now, weight, wanted)
        fitted(few, left, weight, wanted, steep, True)
        drawn(few, left, made)
        fits = _stays(values, made, first, last)
        for f in range(first, last + 1):
            if _furthest(felt, f, made[f] - now[f]) > within:
                fits = False
                break
        if fits:
            _take(felt, first, last, now, made)
            for j in range(left):
                at[low + j], value[low + j], slope[low + j] = few.at[j], few.value[j], few.slope[j]
            for j in range(high + 1, count):
                at[j - 1], value[j - 1], slope[j - 1] = at[j], value[j], slope[j]
            count -= 1
        i += 1  # the next neighbour is left alone for this time
    return count
