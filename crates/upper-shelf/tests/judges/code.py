"""What two readers that others wrote see in signed code, for each processor: code.py lief FILE -> whether its layout is
whole; code.py yara FILE -> what it may do, and the certificates."""
import sys

reader, path = sys.argv[1:]
if reader == "lief":
    import lief

    # Parts live no longer than the whole.
    whole_file = lief.MachO.parse(path)
    for part in whole_file:
        whole, why = lief.MachO.check_layout(part)
        print("whole" if whole else why)
else:
    import yara_x

    with open(path, "rb") as file:
        read = yara_x.Module("macho").invoke(file.read())
    for part in read.get("file") or [read]:
        certificates = [one["subject"].split("CN=")[-1] for one in part.get("certificates", [])]
        print(sorted(part.get("entitlements", [])), certificates)
