"""Hives as readers that others wrote see them: judge.py READER FILE -> JSON, a list of keys with their values in hexadecimal digits."""
import json
import sys

reader, path = sys.argv[1:]
out = []


def add(path, values):
    out.append([path, sorted(values)])


if reader == "dissect":
    from dissect.regf.regf import RegistryHive

    def walk(key, path):
        here = f"{path}\\{key.name}" if path else key.name
        values = []
        for value in key.values():
            values.append(["" if value.name == "(Default)" else value.name, int(value.type), bytes(value.data).hex()])
        add(here, values)
        for below in key.subkeys():
            walk(below, here)

    walk(RegistryHive(open(path, "rb")).root(), "")
else:
    from Registry import Registry

    def walk(key, path):
        here = f"{path}\\{key.name()}" if path else key.name()
        values = []
        for value in key.values():
            name = value.name()
            values.append(["" if name == "(default)" else name, value.value_type(), value.raw_data().hex()])
        add(here, values)
        for below in key.subkeys():
            walk(below, here)

    walk(Registry.Registry(path).root(), "")
print(json.dumps(out))
