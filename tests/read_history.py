#!/usr/bin/env python3
"""Reads the blocks of a file of history (docs/history.md): node, time, status and value of each sample, one a line."""
import ctypes
import ctypes.util
import sqlite3
import struct
import sys

zstd = ctypes.CDLL(ctypes.util.find_library("zstd") or "libzstd.so.1")
zstd.ZSTD_getFrameContentSize.restype = ctypes.c_ulonglong
zstd.ZSTD_decompress.restype = ctypes.c_size_t


def unpacked(frame):
    out = ctypes.create_string_buffer(zstd.ZSTD_getFrameContentSize(frame, len(frame)))
    assert zstd.ZSTD_decompress(out, ctypes.c_size_t(len(out)), frame, ctypes.c_size_t(len(frame))) == len(out)
    return out.raw


class Block:
    UNITS, FORMATS = (1, 10, 10_000, 10_000_000), {10: ("f", 4), 11: ("d", 8)}

    def __init__(self, octets):
        self.octets, self.at = octets, 0

    def take(self, form):
        value, = struct.unpack_from("<" + form, self.octets, self.at)
        self.at += struct.calcsize("<" + form)
        return value

    def number(self):
        value = shift = 0
        while (octet := self.take("B")) >= 0x80:
            value, shift = value | (octet & 0x7F) << shift, shift + 7
        return value | octet << shift

    def difference(self):
        value = self.number()
        return value >> 1 ^ -(value & 1)

    def runs(self, count, read):
        out = []
        while len(out) < count:
            length = self.number()
            out += [read()] * length
        return out

    def sums(self, count):
        out, total = [], 0
        for _ in range(count):
            out.append(total := total + self.difference())
        return out

    def samples(self):
        version, kind, count = self.take("B"), self.take("B"), self.number()
        assert version == 1 and kind != 255, "mixed values are OPC UA Binary"
        times, unit, step = [self.take("q")], self.UNITS[self.take("B")], 0
        for _ in range(count - 1):
            step += self.difference()
            times.append(times[-1] + step * unit)
        if self.take("B") == 2:  # server times
            self.take("B"), self.sums(count)
        statuses = self.runs(count, lambda: self.take("I"))
        nulls = self.runs(count, lambda: self.take("B"))
        values = iter(self.values(kind, count - sum(nulls)))
        return [(t, s, None if n else next(values)) for t, s, n in zip(times, statuses, nulls)]

    def values(self, kind, count):
        if kind == 1:
            return [bool(v) for v in self.runs(count, lambda: self.take("B"))]
        if kind < 10:
            return self.sums(count)
        form, size = self.FORMATS[kind]
        if (decimals := self.take("B")) < 10:
            return [v / 10**decimals for v in self.sums(count)]
        planes, bits, out = self.octets[self.at:self.at + count * size], 0, []
        for i in range(count):
            bits ^= int.from_bytes(bytes(planes[k * count + i] for k in range(size)), "little")
            out.append(struct.unpack("<" + form, bits.to_bytes(size, "little"))[0])
        return out


for name, octets in sqlite3.connect(f"file:{sys.argv[1]}?mode=ro", uri=True).execute(
        "SELECT name, octets FROM blocks JOIN variables ON variable = id ORDER BY name, first"):
    for time, status, value in Block(unpacked(octets)).samples():
        print(name, time, f"{status:08X}", value)
