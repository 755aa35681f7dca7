"""A second reading of packages, from APPNOTE.TXT and what is published of block maps: second_reading.py FILE -> "ok", or what is wrong.
With a second word, the digests that a signature is of, in hexadecimal digits, are compared with the ones that it works out itself."""
import base64
import hashlib
import struct
import sys
import urllib.parse
import xml.etree.ElementTree as ET
import zlib

MAP = "{http://schemas.microsoft.com/appx/2010/blockmap}"


def demand(holds, what):
    if not holds:
        print(what)
        sys.exit(1)


def main(path, digests=None):
    data = open(path, "rb").read()
    end = data.rfind(b"PK\5\6")
    demand(end >= 0, "no end")
    count, size, start = struct.unpack_from("<HII", data, end + 10)
    if count == 0xFFFF:
        large, = struct.unpack_from("<Q", data, end - 20 + 8)
        count, size, start = struct.unpack_from("<QQQ", data, large + 32)
        demand(large == start + size, "the large end is elsewhere")
    at, parts, raw, where = start, {}, [], 0
    for _ in range(count):
        fields = struct.unpack_from("<IHHHHHHIIIHHHHHII", data, at)
        name = data[at + 46 : at + 46 + fields[10]]
        length = 46 + fields[10] + fields[11] + fields[12]
        raw.append(data[at : at + length])
        at += length
        crc, packed, plain, local = fields[7], fields[8], fields[9], fields[16]
        demand(local == where, f"a gap before {name}")
        demand(data[local : local + 4] == b"PK\3\4", f"no record of {name}")
        own = struct.unpack_from("<HHHIIIIHH", data, local + 4)
        demand((own[2], own[4], own[5], own[6], own[7]) == (fields[4], crc, packed, plain, fields[10]), f"two records of {name}")
        demand(data[local + 30 : local + 30 + own[7]] == name and own[1] == fields[3], f"two names of {name}")
        begin = local + 30 + own[7] + own[8]
        inside = data[begin : begin + packed]
        text = inside if fields[4] == 0 else zlib.decompress(inside, -15)
        demand(zlib.crc32(text) == crc and len(text) == plain, f"another checksum of {name}")
        parts[urllib.parse.unquote(name.decode())] = (text, inside, fields[4], begin - local)
        where = begin + packed
    demand(where == start and at == start + size, "gaps in the directory")
    listed = set()
    for file in ET.fromstring(parts["AppxBlockMap.xml"][0]).findall(MAP + "File"):
        name = file.get("Name").replace("\\", "/")
        listed.add(name)
        text, inside, method, head = parts[name]
        demand(int(file.get("Size")) == len(text) and int(file.get("LfhSize")) == head, f"sizes of {name}")
        blocks, place = file.findall(MAP + "Block"), 0
        demand(len(blocks) == (len(text) + 65535) // 65536, f"blocks of {name}")
        for n, block in enumerate(blocks):
            own = text[65536 * n : 65536 * n + 65536]
            demand(base64.b64decode(block.get("Hash")) == hashlib.sha256(own).digest(), f"block {n} of {name}")
            if method:
                long = int(block.get("Size"))
                demand(zlib.decompressobj(-15).decompress(inside[place : place + long]) == own, f"block {n} of {name} by itself")
                place += long
        demand(not method or inside[place:] == b"\3\0", f"the end of {name}")
    left = {"AppxBlockMap.xml", "[Content_Types].xml", "AppxSignature.p7x"}
    demand(listed == set(parts) - left, "other parts in the map")
    types = ET.fromstring(parts["[Content_Types].xml"][0])
    endings = {one.get("Extension") for one in types if one.tag.endswith("Default")}
    names = {urllib.parse.unquote(one.get("PartName")) for one in types if one.tag.endswith("Override")}
    for name in set(parts) - {"[Content_Types].xml"}:
        file = name.rsplit("/")[-1]
        demand("/" + name in names or file.rpartition(".")[2].lower() in endings, f"no type of {name}")
    if digests:
        signed = "AppxSignature.p7x" in parts
        demand(not signed or list(parts)[-1] == "AppxSignature.p7x", "the signature is not last")
        before = struct.unpack_from("<I", raw[-1], 42)[0] if signed else start
        records = b"".join(raw[:-1] if signed else raw)
        number = count - signed
        tail = struct.pack("<IQHHIIQQQQ", 0x06064B50, 44, 45, 45, 0, 0, number, number, len(records), before)
        tail += struct.pack("<IIQI", 0x07064B50, 0, before + len(records), 1) + data[end:]
        hashes = [data[:before], records + tail, parts["[Content_Types].xml"][0], parts["AppxBlockMap.xml"][0]]
        letters = [b"AXPC", b"AXCD", b"AXCT", b"AXBM"]
        own = b"APPX" + b"".join(a + hashlib.sha256(b).digest() for a, b in zip(letters, hashes))
        demand(own.hex() == digests, "other digests")
    print("ok")


main(*sys.argv[1:])
