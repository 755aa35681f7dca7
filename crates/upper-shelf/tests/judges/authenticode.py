"""A second reading of signed programs, from the formats' published descriptions alone (Microsoft's "PE Format" and
"Windows Authenticode Portable Executable Signature Format", RFC 5652, RFC 3161): standard library, and openssl for the keys.

authenticode.py ROOTS FILE -> a line for each signature, or why it does not hold; exit code 1 then.
"""
import hashlib
import os
import struct
import subprocess
import sys
import tempfile

HASHES = {"608648016503040201": "sha256", "608648016503040202": "sha384", "608648016503040203": "sha512"}
CONTENT_TYPE, DIGEST = "2a864886f70d010903", "2a864886f70d010904"
INDIRECT, OPUS = "2b060104018237020104", "2b06010401823702010c"
NESTED, STAMP = "2b060104018237020401", "2b060104018237030301"
CODE, TIME = "Code Signing", "Time Stamping"


class Wrong(Exception):
    pass


def demand(holds, what):
    if not holds:
        raise Wrong(what)


def values(data, most=None):
    """Tag, whole and content of each value, or of the first ones."""
    at, out = 0, []
    while at < len(data) and len(out) != most:
        demand(at + 2 <= len(data), "cut off")
        length, head = data[at + 1], 2
        if length & 0x80:
            count = length & 0x7F
            demand(0 < count <= 4, "a length in another form")
            length, head = int.from_bytes(data[at + 2 : at + 2 + count], "big"), 2 + count
        end = at + head + length
        demand(end <= len(data), "longer than its bytes")
        out.append((data[at], data[at:end], data[at + head : end]))
        at = end
    return out


def attributes(data):
    out = {}
    for _, _, one in values(data):
        (_, _, name), (_, _, found) = values(one)
        demand(name.hex() not in out, "an attribute stands there twice")
        out[name.hex()] = values(found)
    return out


def openssl(words, **files):
    with tempfile.TemporaryDirectory() as folder:
        for name, data in files.items():
            with open(os.path.join(folder, name), "wb") as file:
                file.write(data)
        done = subprocess.run(["openssl", *words.split()], cwd=folder, capture_output=True)
        return done.returncode == 0, done.stdout


def holds(certificate, algorithm, message, signature):
    done, public = openssl("x509 -inform DER -in c -pubkey -noout", c=certificate)
    demand(done, "a certificate that is none")
    return openssl(f"dgst -{algorithm} -verify p -signature s m", p=public, s=signature, m=message)[0]


def trusted(certificate, others, roots, usage, when):
    _, text = openssl("x509 -inform DER -in c -noout -ext extendedKeyUsage", c=certificate)
    demand(usage in text.decode(), f"no certificate for {usage}")
    pem = b"".join(openssl("x509 -inform DER -in c", c=one)[1] for one in others)
    leaf = openssl("x509 -inform DER -in c", c=certificate)[1]
    words = f"verify -purpose any -attime {when} -CAfile r -untrusted o c"
    return openssl(words, r=open(roots, "rb").read(), o=pem, c=leaf)[0]


def message(data, kind):
    """The content, the certificates, and the only signature of a message."""
    (_, _, outer), = values(data)
    (_, _, _), (_, _, inner) = values(outer)
    (_, _, fields), = values(inner)
    fields = values(fields)
    (_, _, name), (_, _, content) = values(fields[2][2])
    demand(name.hex() == kind, "another kind of message")
    certificates = [whole for tag, whole, _ in values(fields[3][2]) if tag == 0x30]
    signers = values(fields[-1][2])
    demand(len(signers) == 1, "not one signature")
    return values(content)[0], certificates, values(signers[0][2])


def checked(data, kind, content, certificates, signer):
    """The certificate whose signature holds, the digest's name, the signature, its signed and other attributes."""
    (_, _, _), (_, _, who), (_, _, digest), (tag, signed, inside), _, (_, _, signature), *rest = signer
    demand(tag == 0xA0, "no signed attributes")
    algorithm = HASHES.get(values(digest)[0][2].hex())
    demand(algorithm, "a digest that nobody should use")
    signed_attributes = attributes(inside)
    demand(signed_attributes[CONTENT_TYPE][0][2].hex() == kind, "signed for another kind")
    own = hashlib.new(algorithm, content).digest()
    demand(signed_attributes[DIGEST][0][2] == own, "the content was changed")
    issuer, serial = values(who)
    for certificate in certificates:
        fields = values(values(values(certificate)[0][2])[0][2])[1:]
        if fields[0][2] == serial[2] and fields[2][1] == issuer[1]:
            demand(holds(certificate, algorithm, b"\x31" + signed[1:], signature), "the signature does not fit")
            return certificate, algorithm, signature, signed_attributes, attributes(rest[0][2]) if rest else {}
    raise Wrong("the certificate is not there")


def stamped(token, signature, roots):
    kind = "2a864886f70d0109100104"
    (_, _, info), certificates, signer = message(token, kind)
    certificate, _, _, _, _ = checked(token, kind, info, certificates, signer)
    (_, _, fields), = values(info)
    fields = values(fields)
    (_, _, algorithm), (_, _, digest) = values(fields[2][2])
    name = HASHES[values(algorithm)[0][2].hex()]
    demand(hashlib.new(name, signature).digest() == digest, "a timestamp of something else")
    text = fields[4][2].decode()
    done = subprocess.run(["date", "-u", "+%s", "-d", f"{text[:8]} {text[8:10]}:{text[10:12]}:{text[12:14]}"], capture_output=True)
    when = int(done.stdout)
    demand(trusted(certificate, certificates, roots, TIME, when), "a timestamp of a stranger")
    return when


def pages(data, optional, wide, entry, end):
    """The table of the digests of pages: headers, each page of each section, the end."""
    page, own = struct.unpack_from("<I", data, optional + 32)[0], struct.unpack_from("<I", data, optional + 60)[0]
    (count,), (room,) = struct.unpack_from("<H", data, optional - 18), struct.unpack_from("<H", data, optional - 4)
    head = data[: optional + 64] + data[optional + 68 : entry] + data[entry + 8 : own] + bytes(page - own)
    out, last = struct.pack("<I", 0) + hashlib.sha256(head).digest(), own
    for n in range(count):
        size, at = struct.unpack_from("<II", data, optional + room + 40 * n + 16)
        for start in range(at, at + size, page):
            part = data[start : min(start + page, at + size)]
            out += struct.pack("<I", start) + hashlib.sha256(part + bytes(page - len(part))).digest()
        last = at + size if size else last
    demand(last <= end, "sections reach into the signature")
    return out + struct.pack("<I", last) + bytes(32)


def table(what):
    """The table in what is said of a program, or nothing."""
    _, (_, _, image) = values(what)
    _, (_, _, file) = values(image)
    (tag, _, link), = values(file)
    if tag != 0xA1:
        return None
    (_, _, form), (_, _, data) = values(link)
    demand(form.hex() == "a6b586d5b4a12466ae05a217da8e60d6", "pages in another form")
    (_, _, all_of_it), = values(data)
    found = attributes(all_of_it)
    (_, _, out), = found["2b060104018237020302"]
    return out


def signature(data, program, roots, out):
    (_, whole, content), certificates, signer = message(data, INDIRECT)
    certificate, algorithm, made, signed, other = checked(data, INDIRECT, content, certificates, signer)
    (_, _, what), (_, _, digest) = values(content)
    demand(values(what)[0][2].hex() == "2b06010401823702010f", "no signature of a program")
    (_, _, named), (_, _, digest) = values(digest)
    own, of_pages = program(HASHES[values(named)[0][2].hex()])
    demand(own == digest, "the program was changed")
    demand(table(what) in (None, of_pages), "digests of other pages")
    when = stamped(other[STAMP][0][1], made, roots) if STAMP in other else None
    now = when or int(subprocess.run(["date", "+%s"], capture_output=True).stdout)
    demand(trusted(certificate, certificates, roots, CODE, now), "nobody who is trusted")
    pages_too = " page by page" if table(what) else ""
    out.append(f"{algorithm}{pages_too}{' with a timestamp' if when else ''}")
    for _, nested, _ in other.get(NESTED, []):
        signature(nested, program, roots, out)


def main(roots, path):
    data = open(path, "rb").read()
    demand(data[:2] == b"MZ", "no program")
    headers, = struct.unpack_from("<I", data, 0x3C)
    optional = headers + 24
    wide, = struct.unpack_from("<H", data, optional)
    entry = optional + {0x10B: 96, 0x20B: 112}[wide] + 4 * 8
    at, size = struct.unpack_from("<II", data, entry)
    demand(size, "not signed")
    demand(at % 8 == 0 and at + size == len(data), "the table does not end the file")
    pieces = [data[: optional + 64], data[optional + 68 : entry], data[entry + 8 : at]]
    signed = b"".join(pieces)
    words = struct.unpack(f"<{(len(data) + 1) // 2}H", data + b"\0" * (len(data) % 2))
    total = sum(words) - sum(struct.unpack_from("<2H", data, optional + 64))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    demand(struct.unpack_from("<I", data, optional + 64)[0] in (0, total + len(data)), "the checksum is wrong")
    out, of_pages = [], pages(data, optional, wide, entry, at)
    while at < len(data):
        length, revision, kind = struct.unpack_from("<IHH", data, at)
        demand((revision, kind) == (0x200, 2) and length > 8, "another kind of signature")
        inner = data[at + 8 : at + length]
        own = values(inner, 1)[0][1]
        demand(not any(inner[len(own) :]), "something is hidden")
        demand(not any(data[at + length : (at + length + 7) // 8 * 8]), "something is hidden")
        signature(own, lambda name: (hashlib.new(name, signed).digest(), of_pages), roots, out)
        at = (at + length + 7) // 8 * 8
    print("; ".join(out))


if __name__ == "__main__":
    try:
        main(*sys.argv[1:])
    except (Wrong, KeyError, ValueError, IndexError, struct.error) as wrong:
        print(wrong)
        sys.exit(1)
