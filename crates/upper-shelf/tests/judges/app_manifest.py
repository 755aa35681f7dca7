"""A second reading of the manifest in a package that Windows installs by itself: what Microsoft's published schema and its
description of package identity say, written down anew. Prints what the package is, then what is wrong with it.

    app_manifest.py PACKAGE-OR-BUNDLE
"""
import hashlib
import io
import re
import sys
import zipfile
import xml.etree.ElementTree as xml
from urllib.parse import unquote

import pyecma376_2

BASE = "http://schemas.microsoft.com/appx/manifest/"
F = "{" + BASE + "foundation/windows10}"
UAP = "{" + BASE + "uap/windows10}"
RESCAP = "{" + BASE + "foundation/windows10/restrictedcapabilities}"
# Capabilities that the documentation lists, by the namespaces of their elements.
RESTRICTED = {"runFullTrust", "packagedServices", "localSystemServices", "allowElevation", "broadFileSystemAccess",
              "packageQuery", "packageWriteRedirectionCompatibilityShim", "unvirtualizedResources"}
FURTHER = {"{" + BASE + "uap/windows10/6}Capability": {"graphicsCapture"},
           "{" + BASE + "uap/windows10/7}Capability": {"globalMediaControl"}}
GENERAL = {"internetClient", "internetClientServer", "privateNetworkClientServer"}
UAP_ONES = {"documentsLibrary", "picturesLibrary", "videosLibrary", "musicLibrary", "removableStorage", "appointments",
            "contacts", "phoneCall", "userAccountInformation"}
DEVICES = {"webcam", "microphone", "location", "bluetooth", "usb", "proximity", "serialcommunication",
           "humaninterfacedevice", "radios"}
FORBIDDEN = set("exe com bat cmd lnk msi msix appx reg url scr pif vbs".split())
wrong = []


def demand(holds, what):
    if not holds:
        wrong.append(what)


def family(publisher):
    digest = hashlib.sha256(publisher.encode("utf-16-le")).digest()[:8]
    bits = int.from_bytes(digest, "big") << 1
    return "".join("0123456789abcdefghjkmnpqrstvwxyz"[(bits >> (5 * n)) & 31] for n in range(12, -1, -1))


def is_version(text):
    parts = (text or "").split(".")
    return len(parts) == 4 and all(p.isdigit() and str(int(p)) == p and int(p) < 65536 for p in parts)


def local(element):
    return element.tag.rsplit("}", 1)[-1]


B = "{http://schemas.microsoft.com/appx/2013/bundle}"


def bundle(path, archive):
    """A bundle: who it is, and each package in it, which lies where the bundle says, stored, and is of the same product."""
    root = xml.fromstring(archive.read("AppxMetadata/AppxBundleManifest.xml"))
    demand(root.tag == B + "Bundle" and re.fullmatch(r"\d+\.\d+", root.get("SchemaVersion") or ""), "the root is no Bundle")
    identity = root.find(B + "Identity")
    demand(is_version(identity.get("Version")), "the bundle's version")
    print(f"bundle {identity.get('Name')} {identity.get('Version')}")
    packages, processors = root.findall(B + "Packages/" + B + "Package"), set()
    demand(packages, "no packages")
    whole = open(path, "rb").read()
    for package in packages:
        part = archive.getinfo(package.get("FileName"))
        demand(part.compress_type == zipfile.ZIP_STORED, "a packed package")
        start = part.header_offset
        lengths = [int.from_bytes(whole[start + at:start + at + 2], "little") for at in (26, 28)]
        at, size = start + 30 + sum(lengths), int(package.get("Size"))
        demand(at == int(package.get("Offset")) and size == part.file_size, "where a package lies")
        inner = zipfile.ZipFile(io.BytesIO(whole[at:at + size]))
        own = xml.fromstring(inner.read("AppxManifest.xml")).find(F + "Identity")
        demand(all(own.get(k) == identity.get(k) for k in ("Name", "Publisher")), "a package of another product")
        demand(own.get("Version") == package.get("Version"), "another version")
        demand(own.get("ProcessorArchitecture") == package.get("Architecture"), "another processor")
        processors.add(package.get("Architecture"))
        package_of(inner)
    demand(len(processors) == len(packages), "two packages for one processor")


def types(path, archive):
    """Every part has a type, as a reader of such containers that others wrote finds it."""
    with pyecma376_2.ZipPackageReader(path) as reader:
        parts = dict(reader.list_parts(include_rels_parts=True))
        demand(len(parts) == len(archive.namelist()) - 1, "a part without a type")
        demand(all(re.fullmatch(r"[\w.+-]+/[\w.+-]+", own) for own in parts.values()), "a type that is none")
        for name in parts:
            with reader.open_part(name) as part:
                part.read(1)


def main(path):
    archive = zipfile.ZipFile(path)
    types(path, archive)
    if "AppxMetadata/AppxBundleManifest.xml" in archive.namelist():
        bundle(path, archive)
    else:
        package_of(archive)
    print("ok" if not wrong else "\n".join(wrong))
    return 1 if wrong else 0


def package_of(archive):
    names = {unquote(name).lower(): name for name in archive.namelist()}
    demand(len(names) == len(archive.namelist()), "two names are one")
    root = xml.fromstring(archive.read("AppxManifest.xml"))
    demand(root.tag == F + "Package", "the root is no Package")
    declared = dict(re.findall(r'xmlns:(\w+)="([^"]+)"', archive.read("AppxManifest.xml").decode()))
    for prefix in root.get("IgnorableNamespaces", "").split():
        demand(prefix in declared, f"the prefix {prefix} is not declared")

    def file(named, what):
        demand(named and named.replace("\\", "/").lower() in names, f"{what} is not in the package: {named}")

    identity = root.find(F + "Identity")
    name, publisher, version = (identity.get(k) for k in ("Name", "Publisher", "Version"))
    demand(re.fullmatch(r"[A-Za-z0-9.-]{3,50}", name or ""), f"Name: {name}")
    demand(not name.endswith(".") and not name.lower().startswith("xn--"), f"Name: {name}")
    demand(is_version(version), f"Version: {version}")
    demand(re.match(r"(CN|O|OU|C|L|S|E|OID\.[0-9.]+)=", publisher or ""), f"Publisher: {publisher}")
    demand(identity.get("ProcessorArchitecture") in ("x86", "x64", "arm64", "arm", "neutral"), "the processor")
    properties = root.find(F + "Properties")
    for text in ("DisplayName", "PublisherDisplayName"):
        demand(0 < len(properties.findtext(F + text, "")) <= 256, text)
    logo = properties.findtext(F + "Logo")
    file(logo, "the logo")
    systems = root.findall(F + "Dependencies/" + F + "TargetDeviceFamily")
    demand(systems, "no system is named")
    for system in systems:
        low, high = system.get("MinVersion"), system.get("MaxVersionTested")
        demand(is_version(low) and is_version(high), "a system's versions")
        demand([int(n) for n in low.split(".")] <= [int(n) for n in high.split(".")], "tested before the oldest")
    for language in root.findall(F + "Resources/" + F + "Resource"):
        demand(re.fullmatch(r"[A-Za-z]{2,8}(-[A-Za-z0-9]+)*", language.get("Language", "")), "a language")
    for needed in root.findall(F + "Dependencies/" + F + "PackageDependency"):
        demand(re.fullmatch(r"[A-Za-z0-9.-]{3,50}", needed.get("Name") or ""), "a package that is needed")
        demand(is_version(needed.get("MinVersion")), "the version of a package that is needed")
        demand(re.match(r"(CN|O|OU|C|L|S|E)=", needed.get("Publisher") or ""), "the publisher of a package that is needed")
    seen, shown = set(), []
    for app in root.findall(F + "Applications/" + F + "Application"):
        own = app.get("Id")
        demand(re.fullmatch(r"[A-Za-z][A-Za-z0-9]*(\.[A-Za-z][A-Za-z0-9]*)*", own or "") and len(own) <= 64, f"Id: {own}")
        demand(own.lower() not in seen, f"Id twice: {own}")
        seen.add(own.lower())
        file(app.get("Executable"), "a program")
        demand(app.get("EntryPoint") == "Windows.FullTrustApplication", "EntryPoint")
        visual = app.find(UAP + "VisualElements")
        for text, most in (("DisplayName", 256), ("Description", 2048)):
            demand(0 < len(visual.get(text) or "") <= most, f"{own}: {text}")
        demand(re.fullmatch(r"transparent|#[0-9a-fA-F]{6}", visual.get("BackgroundColor") or ""), "BackgroundColor")
        for picture, side in (("Square150x150Logo", 150), ("Square44x44Logo", 44)):
            file(visual.get(picture), picture)
            data = archive.read(names[visual.get(picture).replace("\\", "/").lower()])
            demand(data[:8] == b"\x89PNG\r\n\x1a\n" and data[16:24] == side.to_bytes(4, "big") * 2, picture)
            demand(len(data) <= 204800, f"{picture} is larger than 200 KB")
        shown.append((own, visual.get("DisplayName"), visual.get("AppListEntry", "default")))
        for extension in app.iterfind("./{*}Extensions/*"):
            inner = list(extension)
            demand(len(inner) == 1, "an extension holds one element")
            kind = extension.get("Category")
            if extension.get("Executable"):
                file(extension.get("Executable"), kind)
            if kind == "windows.fileTypeAssociation":
                demand(re.fullmatch(r"[a-z0-9._-]+", inner[0].get("Name")), "a file type's name")
                for one in inner[0].iterfind(".//" + UAP + "FileType"):
                    demand(one.text[0] == "." and one.text == one.text.lower(), f"file type {one.text}")
                    demand(one.text[1:] not in FORBIDDEN, f"file type {one.text}")
            elif kind == "windows.protocol":
                demand(re.fullmatch(r"[a-z0-9][a-z0-9.+-]{1,38}", inner[0].get("Name")), "a link scheme")
            elif kind == "windows.appExecutionAlias":
                demand(all(alias.get("Alias").lower().endswith(".exe") for alias in inner[0]), "an alias")
            elif kind == "windows.startupTask":
                demand(inner[0].get("TaskId") and inner[0].get("DisplayName"), "a task at the start")
            elif kind == "windows.service":
                demand(inner[0].get("StartAccount") in ("localSystem", "localService", "networkService"), "a service")
                demand(inner[0].get("StartupType") in ("auto", "manual", "disabled"), "a service")
            elif kind == "windows.sharedFonts":
                for font in inner[0]:
                    file(font.get("File"), "a font")
            elif kind == "windows.shortcut":
                demand(inner[0].get("File").endswith(".lnk"), "a shortcut")
            else:
                demand(False, f"an unknown category {kind}")
    capabilities = []
    for one in root.iterfind(F + "Capabilities/*"):
        capabilities.append(one.get("Name"))
        known = {RESCAP + "Capability": RESTRICTED, F + "Capability": GENERAL, UAP + "Capability": UAP_ONES,
                 F + "DeviceCapability": DEVICES, **FURTHER}.get(one.tag, set())
        demand(one.get("Name") in known, f"an unknown capability {one.get('Name')}")
    # In the schema devices come last.
    kinds = [local(one) for one in root.iterfind(F + "Capabilities/*")]
    demand(kinds == sorted(kinds, key=lambda kind: kind == "DeviceCapability"), "devices come last")
    demand(len(capabilities) == len(set(capabilities)), "a capability twice")
    demand("runFullTrust" in capabilities, "programs of the desktop need runFullTrust")
    print(f"{name}_{version}_{identity.get('ProcessorArchitecture')}__{family(publisher)}")
    for own, title, listed in shown:
        print(f"{own} “{title}” {listed}")
    print(", ".join(capabilities))


sys.exit(main(sys.argv[1]))
