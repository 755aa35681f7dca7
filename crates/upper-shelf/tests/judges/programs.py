"""Two readers of signed programs and packages that others wrote: programs.py READER ROOTS FILE -> exit code 0 if the signatures hold."""
import datetime
import logging
import re
import sys
import warnings

warnings.simplefilter("ignore")
logging.disable(50)
reader, roots, path = sys.argv[1:]
if reader == "lief":
    import lief

    program = lief.PE.parse(path)
    found = program.verify_signature() if program and program.has_signatures else None
    print(found)
    sys.exit(0 if found is not None and found == lief.PE.Signature.VERIFICATION_FLAGS.OK else 1)
else:
    # One of its own libraries can't read that openssl is of version 3.0.10 or later.
    search = re.search
    old, new = r"\d\.\d\.\d[", r"\d\.\d\.\d+["
    re.search = lambda p, *rest: search(p.replace(old, new) if isinstance(p, str) else p, *rest)
    from signify.authenticode import AuthenticodeFile

    re.search = search
    from signify.x509 import Certificate, CertificateStore

    store = CertificateStore([Certificate.from_pem(open(roots, "rb").read())], trusted=True)
    try:
        with open(path, "rb") as file:
            now = datetime.datetime.now(datetime.timezone.utc)
            AuthenticodeFile.from_stream(file).verify(
                multi_verify_mode="all", trusted_certificate_store=store, verification_context_kwargs={"timestamp": now}
            )
    except Exception as e:  # Whatever it says: it does not accept the file.
        print(type(e).__name__, e)
        sys.exit(1)
