"""Trying candidates for the next piece of a JPEG scan: resume, decode, and see how the rows join.

Sequential Huffman scans (ITU-T T.81, F.2). A trial goes on from a saved state with the bytes of
one cluster. Hard rules come first: codes that do not exist, DC values out of range, restart markers
out of order, a marker before the picture is complete, runs of one byte. What passes them gets a
log-likelihood ratio of 'continues the rows above' against 'belongs to something else', in nats.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from numba import njit

from needlewright.core.kernels.jpeg_baseline import ScanPlan, stack_tables
from needlewright.core.kernels.jpeg_bits import (
    ADVANCE_AT,
    BEFORE_AT,
    CODE_AT,
    ENDS,
    LOOKUP_BITS,
    LOOKUP_SHIFT,
    NOT_A_SYMBOL,
    PAD,
    SIZE_AT,
    SLACK_BYTES,
    HuffmanTable,
    decode_symbol,
    extended,
    is_padding,
    scan_end_in,
    unstuff_into,
)
from needlewright.core.kernels.likeness import (
    CLIP,
    FLOOR,
    OFFSET,
    OFFSET_OWN,
    PLAIN,
    SOBER,
    SPREAD,
    TYPICAL,
    level_of,
    likeness_of,
)
from needlewright.core.kernels.loads import load_big, load_little, pick

#: How a trial ends. OPEN: the data ran out, all was well. COMPLETE: the picture is, and a marker
#: follows. CLOSING: the picture is complete, its marker is still to come. The rest refuse.
OPEN, COMPLETE, CLOSING, BAD_CODE, OVERFULL, DC_RANGE, RESTART_ORDER, DATA_LEFT, MARKER_EARLY, \
    CONSTANT, UNLIKE = range(11)
REFUSALS = frozenset(range(BAD_CODE, UNLIKE + 1))

MCU, BIT, AWAITING, EXPECTED, PREDICTION = range(5)  # of `Resumed.numbers`
SLOPPY_BITS = 40  # before the end of the data, where an error may be no more than the end
CONSTANT_WORDS = 4  # eight bytes each, all one byte: healthy data never has as many
SMOOTHING = 3  # MCUs on either side that make up the local scale
TAIL_BYTES = 1 << 16  # of data that belong to one MCU at most


@dataclass(frozen=True, slots=True)
class Resumed:
    """Where a scan stands at the beginning of an MCU.

    `numbers` int64[4 + components]: MCU, bit in `tail`, whether a restart marker must come next,
    its number, DC predictions. `tail` uint8[n]: coded data without stuffing that is not decoded
    yet; `pending`: the last byte read was an FF whose meaning the next one tells. `above`
    float32[cells]: lower edges of the blocks above, all components, grey levels; `rough`
    float32[components * MCUs in a row]: how much rows differed there; `bits` float32[MCUs in a
    row]: what an MCU took.
    """

    numbers: npt.NDArray[np.int64]
    tail: npt.NDArray[np.uint8]
    pending: bool
    above: npt.NDArray[np.float32]
    rough: npt.NDArray[np.float32]
    bits: npt.NDArray[np.float32]

    @property
    def mcu(self) -> int:
        return int(self.numbers[MCU])


@dataclass(frozen=True, slots=True)
class Tables:
    """A scan's tables and layout in the form that the kernel takes; see `ScanPlan`.

    `quantisers` float32[components, 3]: of coefficients (0,0), (1,0), (2,0), over eight and with
    the factors of the transform.
    """

    plan: ScanPlan
    lookup: npt.NDArray[np.generic]
    steps: npt.NDArray[np.int32]
    singles: npt.NDArray[np.int32]
    maxcode: npt.NDArray[np.generic]
    delta: npt.NDArray[np.generic]
    symbols: npt.NDArray[np.generic]
    quantisers: npt.NDArray[np.float32]
    first: npt.NDArray[np.int64]  # where each component's cells begin in `above`
    members: npt.NDArray[np.int64]  # bool[components]: in the scan

    def begin(self) -> Resumed:
        """The state before the first MCU."""
        plan = self.plan
        count = plan.dc_limit.size
        cells = int((plan.mcu_width * plan.mcus_per_row).sum())
        return Resumed(np.zeros(4 + count, np.int64), np.zeros(0, np.uint8), False,
                       np.zeros(cells, np.float32),
                       np.zeros(count * plan.mcus_per_row, np.float32),
                       np.zeros(plan.mcus_per_row, np.float32))


def prepare(plan: ScanPlan, tables: list[HuffmanTable],
            quantisers: list[tuple[int, int, int]]) -> Tables:
    """`plan` and its tables for trials; `quantisers`: of each component, in zigzag 0, 2, 3."""
    lookup, maxcode, delta, symbols = stack_tables(tables)
    wide = plan.mcu_width * plan.mcus_per_row
    scale = np.array([1.0, 1.4142135, 1.4142135], np.float32) / np.float32(8)
    members = np.zeros(plan.dc_limit.size, np.int64)
    members[plan.block_component] = 1
    return Tables(
        plan, lookup, np.concatenate([t.steps for t in tables]),
        np.concatenate([t.single for t in tables]), maxcode, delta, symbols,
        np.array(quantisers, np.float32) * scale,
        np.concatenate(([0], np.cumsum(wide)[:-1])).astype(np.int64), members)


@njit(cache=True, nogil=True)
def _constant_run(raw, stop):
    """Whether `raw` up to `stop` holds a run of one byte that no coded picture has."""
    run = 0
    before = np.uint64(0)
    for i in range(0, stop - 7, 8):
        word = load_little(raw, i)
        same = word == (word & np.uint64(0xFF)) * np.uint64(0x0101010101010101)
        if same and (run == 0 or word == before):
            run += 1
            if run >= CONSTANT_WORDS:
                return True
        else:
            run = 1 if same else 0
        before = word
    return False


@njit(cache=True, nogil=True)
def _follow(clean, size, seg_clean, seg_number, segments, ended, numbers, above, rough, bits,
            score_until, floor, lookup, steps, singles, maxcode, delta, symbols, block_component,
            block_dx, block_dy, per_row, total, mcu_width, mcu_height, dc_table, ac_table, dc_limit,
            restart, quantisers, first, members, upper, lower, out):
    """Decode from the state in `numbers`, `above`, `rough`, `bits`, which move on with it.

    `out` float64[3]: score, MCUs that were scored, bit position. Returns how it ended.
    """
    count = dc_limit.size
    blocks = block_component.size
    prediction = np.zeros(count, np.int64)
    prediction[:] = numbers[PREDICTION:]
    mcu = numbers[MCU]
    pos = numbers[BIT]
    segment = 0
    rows_score = 0.0
    score = 0.0
    scored = 0
    shifted = np.zeros(count, np.float64)
    weighed = np.zeros(count, np.float64)
    while True:
        if numbers[AWAITING]:
            if segment + 1 >= segments:
                if ended:
                    return MARKER_EARLY
                out[2] = pos
                return OPEN if size * 8 - pos <= (SLACK_BYTES + 1) * 8 else DATA_LEFT
            if not is_padding(clean, pos, seg_clean[segment + 1] * 8):
                return DATA_LEFT
            segment += 1
            if seg_number[segment] != numbers[EXPECTED]:
                return RESTART_ORDER
            numbers[EXPECTED] = (numbers[EXPECTED] + 1) & 7
            numbers[AWAITING] = 0
            pos = seg_clean[segment] * 8
            prediction[:] = 0
            numbers[PREDICTION:] = 0
            numbers[BIT] = pos
        last = segment + 1 >= segments
        stop_bit = (size if last else seg_clean[segment + 1]) * 8
        open_end = last and not ended
        row = mcu // per_row
        column = mcu - row * per_row
        w = (pos >> 3) + 7
        acc = load_big(clean, pos >> 3) << np.uint64(pos & 7)
        left = 56 - (pos & 7)
        bad = -1
        for b in range(blocks):
            c = block_component[b]
            acc |= load_big(clean, w) >> np.uint64(left)
            w += (63 - left) >> 3
            left |= 56
            entry = decode_symbol(acc, dc_table[c], lookup, maxcode, delta, symbols)
            if entry < 0 or entry >> 8 > 15:
                bad = BAD_CODE
                break
            length = entry & 0xFF
            bit_count = entry >> 8
            value = prediction[c] + extended(acc << np.uint64(length), bit_count)
            prediction[c] = value
            if value > dc_limit[c] or value < -dc_limit[c]:
                bad = DC_RANGE
                break
            acc <<= np.uint64(length + bit_count)
            left -= length + bit_count
            acc |= load_big(clean, w) >> np.uint64(left)
            w += (63 - left) >> 3
            left |= 56
            table = ac_table[c]
            here = table << LOOKUP_BITS
            k = np.int64(1)
            one_v = np.int64(0)
            two_v = np.int64(0)
            while k < 4:
                one = np.int64(pick(singles, here + np.int64(acc >> LOOKUP_SHIFT)))
                if one != 0:
                    k += (one >> ADVANCE_AT) & 1023
                    if k == 3:
                        one_v = extended(acc << np.uint64((one >> CODE_AT) & 31), one >> SIZE_AT)
                    elif k == 4:
                        two_v = extended(acc << np.uint64((one >> CODE_AT) & 31), one >> SIZE_AT)
                    acc <<= np.uint64(one & 0xFF)
                    left -= one & 0xFF
                else:
                    entry = decode_symbol(acc, table, lookup, maxcode, delta, symbols)
                    if entry < 0:
                        bad = BAD_CODE
                        break
                    length = entry & 0xFF
                    bit_count = (entry >> 8) & 15
                    if bit_count > 0:
                        k += (entry >> 12) + 1
                    elif entry >> 12 == 0:
                        k += ENDS
                    else:
                        k += 16 if entry >> 12 == 15 else NOT_A_SYMBOL
                    if k == 3 and bit_count > 0:
                        one_v = extended(acc << np.uint64(length), bit_count)
                    elif k == 4 and bit_count > 0:
                        two_v = extended(acc << np.uint64(length), bit_count)
                    acc <<= np.uint64(length + bit_count)
                    left -= length + bit_count
                acc |= load_big(clean, w) >> np.uint64(left)
                w += (63 - left) >> 3
                left |= 56
            if bad >= 0:
                break
            while k < 64:
                step = np.int64(pick(steps, here + np.int64(acc >> LOOKUP_SHIFT)))
                if k + (step >> BEFORE_AT) < 64:
                    acc <<= np.uint64(step & 0xFF)
                    left -= step & 0xFF
                    k += (step >> ADVANCE_AT) & 1023
                else:
                    entry = decode_symbol(acc, table, lookup, maxcode, delta, symbols)
                    if entry < 0:
                        bad = BAD_CODE
                        break
                    length = (entry & 0xFF) + ((entry >> 8) & 15)
                    acc <<= np.uint64(length)
                    left -= length
                    if (entry >> 8) & 15 > 0:
                        k += (entry >> 12) + 1
                    elif entry >> 12 == 0:
                        k += ENDS
                    else:
                        k += 16 if entry >> 12 == 15 else NOT_A_SYMBOL
                acc |= load_big(clean, w) >> np.uint64(left)
                w += (63 - left) >> 3
                left |= 56
            if bad >= 0:
                break
            if k >= NOT_A_SYMBOL:
                bad = BAD_CODE
                break
            if 64 < k < ENDS:
                bad = OVERFULL
                break
            if w * 8 - left > stop_bit:
                break
            middle = value * quantisers[c, 0] + two_v * quantisers[c, 2]
            slope = one_v * quantisers[c, 1]
            upper[b] = middle + slope
            lower[b] = middle - slope
        at = w * 8 - left
        if open_end and at > stop_bit - (SLOPPY_BITS if bad >= 0 else 0):
            break  # no more than the end of the data
        if bad >= 0:
            return bad
        if at > stop_bit:
            return MARKER_EARLY
        # The MCU is complete: how do its rows continue those above?
        likeness = 0.0
        b = 0
        for c in range(count):
            if not members[c]:
                continue
            wide = mcu_width[c]
            base = first[c] + column * wide
            jump = np.float32(0)
            inner = np.float32(0)
            signed = np.float32(0)
            for _ in range(wide * mcu_height[c]):
                x = block_dx[b]
                away = upper[b] - above[base + x]
                if block_dy[b] == 0:
                    jump += abs(away)
                    signed += away
                inner += abs(away)
                above[base + x] = lower[b]
                b += 1
            jump /= wide
            signed /= wide
            inner /= wide * mcu_height[c]
            if row > 0 and mcu < score_until:
                low, high = max(0, column - SMOOTHING), min(per_row, column + SMOOTHING + 1)
                scale = np.float32(0)
                for i in range(low, high):
                    scale += rough[c * per_row + i]
                scale = scale / (high - low) + FLOOR
                kind = 0 if c == 0 else 1
                likeness += likeness_of(jump, scale, SPREAD[kind], PLAIN[kind], CLIP[kind])
                # Plain places look alike anywhere: what is usual there is no evidence yet.
                likeness -= SOBER * max(0.0, likeness_of(
                    TYPICAL * scale, scale, SPREAD[kind], PLAIN[kind], CLIP[kind]))
                # An edge that runs along the rows is no shift of them all.
                signed = min(4 * scale, max(-4 * scale, signed))
                shifted[c] += signed / (scale * scale)
                weighed[c] += 1 / (scale * scale)
            rough[c * per_row + column] = inner if row > 0 or mcu_height[c] > 1 else FLOOR
        took = np.float32(at - pos)
        if row > 0 and mcu < score_until:
            apart = abs(np.log((took + 4) / (bits[column] + 4)))
            likeness += max(-1.5, 0.4 - 1.2 * apart)
            rows_score += likeness
            scored += 1
            score = rows_score
            for c in range(count):
                kind = 0 if c == 0 else 1
                score += level_of(shifted[c], weighed[c], OFFSET_OWN[kind], OFFSET[kind])
        bits[column] = took
        mcu += 1
        pos = at
        numbers[MCU] = mcu
        numbers[BIT] = pos
        numbers[PREDICTION:] = prediction
        out[0] = score
        out[1] = scored
        if mcu == total:
            if not last:
                return RESTART_ORDER
            out[2] = pos
            if is_padding(clean, pos, size * 8):
                return COMPLETE if ended else CLOSING
            return DATA_LEFT
        if restart > 0 and mcu % restart == 0:
            numbers[AWAITING] = 1
        if score < floor and scored >= 4:
            return UNLIKE
    out[2] = numbers[BIT]
    return OPEN


@njit(cache=True, nogil=True)
def _try_one(raw, pending, tail, clean, seg_clean, seg_raw, seg_number, raw_at, numbers, above,
             rough, bits, score_until, floor, lookup, steps, singles, maxcode, delta, symbols,
             block_component, block_dx, block_dy, per_row, total, mcu_width, mcu_height, dc_table,
             ac_table, dc_limit, restart, quantisers, first, members, upper, lower, out, ends):
    """One trial. `raw`: a byte of room, then the candidate; `ends` int64[2]: index of the marker
    behind the data in the candidate (its size where there is none), clean bytes."""
    begin = 0 if pending else 1
    if pending:
        raw[0] = 0xFF
    data = raw[begin:]
    stop = scan_end_in(data, 0)
    ended = stop < data.size
    ends[0] = stop + begin - 1
    if _constant_run(data, stop):
        return CONSTANT
    size = np.int64(tail.size)
    clean[:size] = tail
    more, segments = unstuff_into(data[:stop], clean[size:], seg_clean, seg_raw, seg_number, raw_at)
    for s in range(1, segments):
        seg_clean[s] += size
    size += more
    clean[size : size + PAD] = 0
    ends[1] = size
    return _follow(clean, size, seg_clean, seg_number, segments, ended, numbers, above, rough,
                   bits, score_until, floor, lookup, steps, singles, maxcode, delta, symbols,
                   block_component, block_dx, block_dy, per_row, total, mcu_width, mcu_height,
                   dc_table, ac_table, dc_limit, restart, quantisers, first, members, upper,
                   lower, out)


@njit(cache=True, nogil=True)
def _try_all(raws, pending, tail, numbers, above, rough, bits, score_until, floor, lookup, steps,
             singles, maxcode, delta, symbols, block_component, block_dx, block_dy, per_row, total,
             mcu_width, mcu_height, dc_table, ac_table, dc_limit, restart, quantisers, first,
             members, codes, scores, mcus):
    room = raws.shape[1]
    clean = np.zeros(tail.size + room + PAD + 16, np.uint8)
    most = room // 2 + 2
    seg_clean = np.zeros(most, np.int64)
    seg_raw = np.zeros(most, np.int64)
    seg_number = np.zeros(most, np.int64)
    raw_at = np.zeros(room // 256 + 2, np.int64)
    upper = np.zeros(block_component.size, np.float32)
    lower = np.zeros(block_component.size, np.float32)
    my_numbers, my_above = numbers.copy(), above.copy()
    my_rough, my_bits = rough.copy(), bits.copy()
    out = np.zeros(3, np.float64)
    ends = np.zeros(2, np.int64)
    for n in range(raws.shape[0]):
        my_numbers[:] = numbers
        my_above[:] = above
        my_rough[:] = rough
        my_bits[:] = bits
        out[:] = 0
        codes[n] = _try_one(
            raws[n], pending, tail, clean, seg_clean, seg_raw, seg_number, raw_at, my_numbers,
            my_above, my_rough, my_bits, score_until, floor, lookup, steps, singles, maxcode,
            delta, symbols, block_component, block_dx, block_dy, per_row, total, mcu_width,
            mcu_height, dc_table, ac_table, dc_limit, restart, quantisers, first, members, upper,
            lower, out, ends)
        scores[n] = out[0]
        mcus[n] = my_numbers[MCU] - numbers[MCU]


def _layout(told: Tables) -> tuple[object, ...]:
    plan = told.plan
    return (told.lookup, told.steps, told.singles, told.maxcode, told.delta, told.symbols,
            plan.block_component, plan.block_dx, plan.block_dy, plan.mcus_per_row, plan.mcus,
            plan.mcu_width, plan.mcu_height, plan.dc_table, plan.ac_table, plan.dc_limit,
            plan.restart_interval, told.quantisers, told.first, told.members)


def try_candidates(
    tables: Tables, state: Resumed, raws: npt.NDArray[np.uint8], score_until: int,
    floor: float = -20.0,
) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.float64], npt.NDArray[np.int64]]:
    """(how each trial ended, its score in nats, MCUs it decoded) of candidates for what comes next.

    `raws` uint8[n, 1 + bytes]: a byte of room before each. `score_until`: MCUs from there on are
    not compared with rows above, since those may be the candidate's own. A trial ends as UNLIKE
    once its score is below `floor`.
    """
    count = raws.shape[0]
    codes, mcus, scores = np.zeros(count, np.int64), np.zeros(count, np.int64), np.zeros(count)
    _try_all(raws, state.pending, state.tail, state.numbers, state.above, state.rough, state.bits,
             score_until, floor, *_layout(tables), codes, scores, mcus)
    return codes, scores, mcus


@dataclass(frozen=True, slots=True)
class Advance:
    """What one candidate led to. `code`: how it ended; `score` in nats over `scored` MCUs;
    `marker`: where in the candidate the marker behind the data stands, its size where there is
    none."""

    code: int
    score: float
    scored: int
    marker: int
    state: Resumed


def advance(tables: Tables, state: Resumed, raw: npt.NDArray[np.uint8], score_until: int,
            floor: float = -1e9) -> Advance:
    """Take `raw` uint8[n] as what comes next; the state that it leads to, if it does."""
    framed = np.empty(raw.size + 1, np.uint8)
    framed[1:] = raw
    most = raw.size // 2 + 2
    clean = np.zeros(state.tail.size + raw.size + PAD + 16, np.uint8)
    numbers, above = state.numbers.copy(), state.above.copy()
    rough, bits = state.rough.copy(), state.bits.copy()
    blocks = tables.plan.block_component.size
    out, ends = np.zeros(3, np.float64), np.zeros(2, np.int64)
    code = int(_try_one(
        framed, state.pending, state.tail, clean, np.zeros(most, np.int64),
        np.zeros(most, np.int64), np.zeros(most, np.int64), np.zeros(raw.size // 256 + 2, np.int64),
        numbers, above, rough, bits, score_until, floor, *_layout(tables),
        np.zeros(blocks, np.float32), np.zeros(blocks, np.float32), out, ends))
    at = int(out[2])
    tail = clean[at >> 3 : int(ends[1])].copy()
    numbers[BIT] = at & 7
    pending = int(ends[0]) == raw.size and raw.size > 0 and raw[-1] == 0xFF
    if code == OPEN and tail.size > TAIL_BYTES:
        code = DATA_LEFT
    return Advance(code, float(out[0]), int(out[1]), int(ends[0]),
                   Resumed(numbers, tail, pending, above, rough, bits))
