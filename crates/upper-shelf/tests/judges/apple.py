"""A second reading of signed code, bundles and disk images of macOS, from Apple's open headers (`cs_blobs.h`,
`requirement.h`, `mach-o/loader.h`), TN3126, RFC 5652 and RFC 3161: standard library, and openssl for the keys.

apple.py ROOTS PATH -> a line for each program, or what does not hold; exit code 1 then. ROOTS is `-` for code that
nobody signed.
"""
import hashlib
import os
import plistlib
import re
import struct
import sys
import time

from authenticode import Wrong, checked, demand, stamped, trusted, values

HASHES = {1: "sha1", 2: "sha256", 4: "sha384"}
LIST, AGILE = "2a864886f763640901", "2a864886f763640902"
STAMP = "2a864886f70d010910020e"
PROCESSORS = {0x01000007: "x86_64", 0x0100000C: "arm64"}


def digest(kind, data):
    return hashlib.new(kind, data).digest()


def blobs(data):
    """The parts of a signature by their numbers; nothing between or behind them."""
    magic, length, count = struct.unpack_from(">III", data)
    demand(magic == 0xFADE0CC0 and length <= len(data), "no signature")
    out, end = {}, 12 + 8 * count
    for n in range(count):
        slot, at = struct.unpack_from(">II", data, 12 + 8 * n)
        size = struct.unpack_from(">I", data, at + 4)[0]
        demand(at >= end and not any(data[end:at]) and at + size <= length, "parts that overlap or hide something")
        out[slot] = data[at : at + size]
        end = at + size
    demand(not any(data[end:]), "something behind the signature")
    return out


def directory(blob):
    magic, length, version, flags, hashes, name, specials, count, limit = struct.unpack_from(">9I", blob)
    size, kind, _, bits = struct.unpack_from(">4B", blob, 36)
    demand(magic == 0xFADE0C02 and length == len(blob), "no directory")
    out = {"flags": flags, "kind": HASHES[kind], "bits": bits, "limit": limit, "team": None, "executable": None, "runtime": 0}
    text = lambda at: blob[at : blob.index(b"\0", at)].decode()
    out["name"] = text(name)
    if version >= 0x20200 and struct.unpack_from(">I", blob, 48)[0]:
        out["team"] = text(struct.unpack_from(">I", blob, 48)[0])
    if version >= 0x20300:
        out["limit"] = struct.unpack_from(">Q", blob, 56)[0] or limit
    if version >= 0x20400:
        out["executable"] = struct.unpack_from(">QQQ", blob, 64)
    if version >= 0x20500:
        out["runtime"] = struct.unpack_from(">I", blob, 88)[0]
    out["pages"] = [blob[hashes + n * size : hashes + n * size + size] for n in range(count)]
    out["special"] = {n: blob[hashes - n * size : hashes - n * size + size] for n in range(1, specials + 1)}
    out["special"] = {n: value for n, value in out["special"].items() if any(value)}
    out["cdhash"] = digest(out["kind"], blob)[:20]
    return out


def pages(data, found):
    size = 1 << found["bits"] if found["bits"] else max(len(data), 1)
    own = [digest(found["kind"], data[at : at + size]) for at in range(0, len(data), size)]
    demand(own == found["pages"], "pages that are not what was signed")


def requirement(blob):
    """The text of a designated requirement."""
    magic, _, count = struct.unpack_from(">III", blob)
    demand(magic == 0xFADE0C01, "no requirements")
    if count == 0:
        return None
    kind, at = struct.unpack_from(">II", blob, 12)
    demand((count, kind) == (1, 3) and struct.unpack_from(">I", blob, at)[0] == 0xFADE0C00, "another requirement")
    place = [at + 12]

    def number():
        place[0] += 4
        return struct.unpack_from(">i", blob, place[0] - 4)[0]

    def data():
        length = number()
        start = place[0]
        place[0] += (length + 3) & ~3
        return blob[start : start + length]

    def certificate(n):
        return {0: "leaf", -1: "root"}.get(n, str(n))

    def oid(raw):
        out, value = [], 0
        for byte in raw:
            value = value << 7 | byte & 0x7F
            if not byte & 0x80:
                out += [value] if out else [min(value // 40, 2), value - 40 * min(value // 40, 2)]
                value = 0
        return ".".join(map(str, out))

    def expression():
        op = number()
        if op == 2:
            return f'identifier "{data().decode()}"'
        if op == 15:
            return "anchor apple generic"
        if op == 4:
            return f'certificate {certificate(number())} = H"{data().hex()}"'
        if op == 8:
            return f'cdhash H"{data().hex()}"'
        if op in (6, 7):
            one = expression()
            return f"{one} {'and' if op == 6 else 'or'} {expression()}"
        if op == 11:
            which, field = number(), data().decode()
            demand(number() == 1, "a comparison that nobody knows")
            return f'certificate {certificate(which)}[{field}] = "{data().decode()}"'
        if op == 14:
            which, field = number(), oid(data())
            demand(number() == 0, "a comparison that nobody knows")
            return f"certificate {certificate(which)}[field.{field}] /* exists */"
        raise Wrong(f"an operation {op}")

    return expression()


def entitlements(blob):
    return plistlib.loads(blob[8:])


def from_der(blob):
    """The table in the newer form."""

    def value(item):
        tag, _, inner = item
        if tag == 1:
            return inner != b"\0"
        if tag == 2:
            return int.from_bytes(inner, "big", signed=True)
        if tag == 0x0C:
            return inner.decode()
        if tag == 0x30:
            return [value(one) for one in values(inner)]
        demand(tag == 0xB0, "a value that no list of entitlements has")
        out = {}
        for _, _, pair in values(inner):
            key, one = values(pair)
            out[key[2].decode()] = value(one)
        demand(list(out) == sorted(out), "entitlements out of order")
        return out

    (tag, _, inner), = values(blob[8:])
    version, table = values(inner)
    demand(tag == 0x70 and version[2] == b"\1", "entitlements of another form")
    return value(table)


def message(data, code, roots):
    """Whoever signed a directory."""
    (_, _, outer), = values(data)
    _, (_, _, inner) = values(outer)
    parts = values(values(inner)[0][2])
    certificates = [whole for tag, _, content in parts if tag == 0xA0 for _, whole, _ in values(content)]
    (_, _, signer), = values(parts[-1][2])
    leaf, _, signature, signed, other = checked(data, "2a864886f70d010701", code["blob"], certificates, values(signer))
    listed = plistlib.loads(signed[LIST][0][2])["cdhashes"]
    demand(listed == [code["cdhash"]], "a list of other directories")
    agile = [[item[2] for item in values(one[2])] for one in signed[AGILE]]
    demand(agile == [[bytes.fromhex("608648016503040201"), digest("sha256", code["blob"])]], "digests of other directories")
    when = stamped(other[STAMP][0][1], signature, roots) if STAMP in other else int(time.time())
    demand(trusted(leaf, certificates, roots, "Code Signing", when), "nobody who is trusted")
    return leaf


def program(data, roots, info=None, seal=None):
    """Signed code: for each processor what it says."""
    slices = [(0, len(data))]
    if data[:4] == b"\xca\xfe\xba\xbe":
        table = [struct.unpack_from(">5I", data, 8 + 20 * n) for n in range(struct.unpack_from(">I", data, 4)[0])]
        slices = [(offset, size) for _, _, offset, size, _ in table]
        demand(all(offset % (1 << align) == 0 for _, _, offset, _, align in table), "a part that is not aligned")
        ends = [8 + 20 * len(table)] + [offset + size for offset, size in slices]
        gaps = zip(ends, [offset for offset, _ in slices] + [len(data)])
        demand(not any(any(data[end:start]) for end, start in gaps), "something between the parts")
    out = []
    for start, size in slices:
        part = data[start : start + size]
        demand(part[:4] == b"\xcf\xfa\xed\xfe", "code of another kind")
        processor, _, kind, count, length = struct.unpack_from("<5I", part, 4)
        at, signature, last, text = 32, None, None, None
        for _ in range(count):
            command, extent = struct.unpack_from("<II", part, at)
            if command == 0x1D:
                signature = struct.unpack_from("<II", part, at + 8)
            if command == 0x19:
                name = part[at + 8 : at + 24].rstrip(b"\0")
                address, mapped, offset, content = struct.unpack_from("<4Q", part, at + 24)
                last = (offset, content, mapped) if name == b"__LINKEDIT" else last
                text = (offset, content) if name == b"__TEXT" else text
            at += extent
        demand(at == 32 + length, "load commands of another length")
        demand(signature, "not signed")
        offset, extent = signature
        demand(offset % 16 == 0 and offset + extent == size, "a signature that does not end the file")
        demand(last[0] + last[1] == size and last[2] >= last[1], "a last segment that ends elsewhere")
        parts = blobs(part[offset:])
        code = directory(parts[0])
        code["blob"] = parts[0]
        demand(code["limit"] == offset, "a directory of something else")
        pages(part[:offset], code)
        demand(code["executable"] == (*text, 1 if kind == 2 else 0), "executable code elsewhere")
        for slot in (2, 5, 7):
            own = digest(code["kind"], parts[slot]) if slot in parts else None
            demand(code["special"].get(slot) == own, f"part {slot} is not what was signed")
        for slot, bytes in ((1, info), (3, seal)):
            own = digest(code["kind"], bytes) if bytes is not None else None
            demand(code["special"].get(slot) == own, f"part {slot}, beside the file, is not what was signed")
        allowed = entitlements(parts[5]) if 5 in parts else {}
        demand((5 in parts) == (7 in parts), "entitlements in one form only")
        demand(7 not in parts or from_der(parts[7]) == allowed, "two forms of entitlements that differ")
        demand(kind == 2 or not allowed, "a library that is allowed something")
        content = parts.get(0x10000, b"")[8:]
        if roots == "-":
            demand(not content and code["flags"] & 2, "not ad hoc")
            text = None
        else:
            demand(content and not code["flags"] & 2, "nobody signed it")
            leaf = message(content, code, roots)
            text = requirement(parts[2])
            wanted = f'identifier "{code["name"]}" and certificate leaf = H"{hashlib.sha1(leaf).hexdigest()}"'
            demand(text == wanted, f"a requirement that its own code does not fulfil: {text}")
        out.append({**code, "requirement": text, "allowed": allowed, "processor": PROCESSORS[processor]})
    demand(len({one["requirement"] for one in out}) == 1, "parts that are known by different requirements")
    text = out[0]["requirement"] or " or ".join(f'cdhash H"{one["cdhash"].hex()}"' for one in out)
    return out, text


def weigh(rules, path):
    best, most = None, -1
    for pattern, rule in rules.items():
        rule = {} if rule is True else rule
        if re.search(pattern, path) and rule.get("weight", 1) > most:
            best, most = rule, rule.get("weight", 1)
    return best


def is_code(path):
    if os.path.islink(path) or not os.path.isfile(path):
        return False
    with open(path, "rb") as file:
        return file.read(4) in (b"\xca\xfe\xba\xbe", b"\xcf\xfa\xed\xfe")


def bundle(node, roots, said):
    """A bundle and everything in it; what it is known by."""
    base = os.path.join(node, "Contents")
    info = os.path.join(base, "Info.plist")
    if not os.path.isdir(base) and os.path.isdir(os.path.join(node, "Versions")):
        for name in set(os.listdir(node)) - {"Versions"}:
            whole = os.path.join(node, name)
            demand(os.path.islink(whole) and os.readlink(whole).startswith("Versions/Current/"), f"{name} beside versions")
    if not os.path.isdir(base):
        base = os.path.realpath(os.path.join(node, "Versions", "Current")) if os.path.isdir(os.path.join(node, "Versions")) else node
        info = os.path.join(base, "Resources", "Info.plist")
    listed = plistlib.load(open(info, "rb"))
    main = os.path.join(base, "MacOS" if base.endswith("Contents") else "", listed["CFBundleExecutable"])
    sealed = open(os.path.join(base, "_CodeSignature", "CodeResources"), "rb").read()
    seal = plistlib.loads(sealed)
    seen = set()
    for folder, folders, files in os.walk(base):
        for name in sorted(folders + files):
            whole = os.path.join(folder, name)
            path = os.path.relpath(whole, base)
            if whole == main or path.split("/")[0] in ("_CodeSignature", "CodeResources"):
                continue
            rule = weigh(seal["rules2"], path)
            is_folder = os.path.isdir(whole) and not os.path.islink(whole)
            if rule is None or rule.get("omit") or is_folder and not (rule.get("nested") and "." in name):
                continue
            demand(path in seal["files2"], f"{path} is not in the seal")
            seen.add(path)
            own = seal["files2"][path]
            if os.path.islink(whole):
                demand(own == {"symlink": os.readlink(whole)}, f"{path} leads elsewhere")
            elif is_folder or rule.get("nested") and is_code(whole):
                found, text = bundle(whole, roots, said) if is_folder else program(open(whole, "rb").read(), roots)
                demand(own["cdhash"] == found[0]["cdhash"] and own["requirement"] == text, f"{path} is other code")
                if is_folder:
                    folders.remove(name)
                else:
                    said.append(f"{path}: {found[0]['name']}")
            else:
                data = open(whole, "rb").read()
                wanted = {"hash2": digest("sha256", data)}
                wanted.update({"optional": True} if rule.get("optional") else {})
                demand({k: v for k, v in own.items() if k != "hash"} == wanted, f"{path} was changed")
                first = weigh(seal["rules"], path)
                old = seal["files"].get(path)
                old = old["hash"] if isinstance(old, dict) else old
                demand(old == (digest("sha1", data) if first is not None and not first.get("omit") else None), f"{path}: SHA-1")
                if is_code(whole):
                    found, _ = program(data, roots)
                    said.append(f"{path}: {found[0]['name']}")
    missing = {path for path, own in seal["files2"].items() if not own.get("optional")} - seen
    demand(not missing, f"missing: {missing}")
    found, text = program(open(main, "rb").read(), roots, open(info, "rb").read(), sealed)
    demand(found[0]["name"] == listed["CFBundleIdentifier"], "a program that is named unlike its bundle")
    of = ", ".join(f"{one['processor']}{' guarded' if one['flags'] & 0x10000 else ''}" for one in found)
    said.append(f"{os.path.basename(node)}: {found[0]['name']} ({of}) {sorted(found[0]['allowed'])}")
    return found, text


def image(data, roots):
    koly = bytearray(data[-512:])
    demand(koly[:4] == b"koly", "no disk image")
    offset, length = struct.unpack_from(">QQ", koly, 296)
    demand(length and offset + length == len(data) - 512, "not signed")
    parts = blobs(data[offset : offset + length])
    code = directory(parts[0])
    code["blob"] = parts[0]
    demand(code["limit"] == offset, "a directory of something else")
    pages(data[:offset], code)
    struct.pack_into(">Q", koly, 304, 0)
    demand(code["special"].get(6) == digest(code["kind"], bytes(koly)), "another end")
    demand(code["special"].get(2) == digest(code["kind"], parts[2]), "another requirement")
    message(parts[0x10000][8:], code, roots)
    return code


def main(roots, path):
    said = []
    if os.path.isdir(path):
        bundle(os.path.realpath(path), roots, said)
    elif path.endswith(".dmg"):
        said.append(image(open(path, "rb").read(), roots)["name"])
    else:
        found, _ = program(open(path, "rb").read(), roots)
        said.append(", ".join(f"{one['name']} {one['processor']}" for one in found))
    return said


if __name__ == "__main__":
    try:
        print("\n".join(main(*sys.argv[1:])))
    except (Wrong, OSError, KeyError, IndexError, ValueError, StopIteration, struct.error) as wrong:
        print(f"does not hold: {wrong!r}")
        sys.exit(1)
