"""A second reading of the manifest in a package that Windows installs by itself: what Microsoft's published schema and its
description of package identity say, written down anew. Prints what the package is, then what is wrong with it.

    app_manifest.py PACKAGE
"""
import hashlib
import re
import sys
import zipfile
import xml.etree.ElementTree as xml
from urllib.parse import unquote

BASE = "http://schemas.microsoft.com/appx/manifest/"
F = "{" + BASE + "foundation/windows10}"
UAP = "{" + BASE + "uap/windows10}"
RESCAP = "{" + BASE + "foundation/windows10/restrictedcapabilities}"
# Capabilities that the documentation lists, by the namespaces of their elements.
RESTRICTED = {"runFullTrust", "packagedServices", "localSystemServices", "allowElevation", "broadFileSystemAccess"}
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


def main(path):
    archive = zipfile.ZipFile(path)
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
                 F + "DeviceCapability": DEVICES}.get(one.tag, set())
        demand(one.get("Name") in known, f"an unknown capability {one.get('Name')}")
    # In the schema devices come last.
    kinds = [local(one) for one in root.iterfind(F + "Capabilities/*")]
    demand(kinds == sorted(kinds, key=lambda kind: kind == "DeviceCapability"), "devices come last")
    demand("runFullTrust" in capabilities, "programs of the desktop need runFullTrust")
    print(f"{name}_{version}_{identity.get('ProcessorArchitecture')}__{family(publisher)}")
    for own, title, listed in shown:
        print(f"{own} “{title}” {listed}")
    print(", ".join(capabilities))
    print("ok" if not wrong else "\n".join(wrong))
    return 1 if wrong else 0


sys.exit(main(sys.argv[1]))
