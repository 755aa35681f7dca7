//! The stable codes of problems: what scripts and searches hold on to while sentences change.

use schemars::JsonSchema;
use serde::Serialize;

/// Makes the codes, their names and what is to be said of each from one list.
macro_rules! codes {
    ($($name:ident $text:literal: $about:literal,)*) => {
        /// What kind of problem it is. The name in JSON never changes.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
        pub enum Code {
            $(#[doc = $about] #[serde(rename = $text)] $name,)*
        }

        impl Code {
            /// All of them, in the order of the manual.
            pub const ALL: &[Code] = &[$(Code::$name,)*];

            /// The name, as in JSON.
            pub fn name(self) -> &'static str {
                match self { $(Code::$name => $text,)* }
            }

            /// When it comes, and what helps.
            pub fn about(self) -> &'static str {
                match self { $(Code::$name => $about,)* }
            }
        }
    };
}

codes! {
    Syntax "syntax": "A file isn't well-formed: the manifest isn't UTF-8 or isn't TOML. The line and the column are shown.",
    UnknownKey "unknown-key": "The manifest has a key that doesn't exist there. It may be misspelt, stand in the wrong table, or have been renamed; the nearest known key is shown.",
    MissingKey "missing-key": "A required key is missing.",
    WrongType "wrong-type": "A value has the wrong type, such as a number where text is expected.",
    InvalidValue "invalid-value": "A value isn't allowed there: a name, path, version, pattern or number outside what the key takes.",
    UnsetVariable "unset-variable": "An environment variable that the manifest or a secret names isn't set.",
    Duplicate "duplicate": "Two items have the same name or key, so one would replace the other.",
    UnknownSource "unknown-source": "A layer names a source that doesn't exist.",
    UnknownRuntime "unknown-runtime": "A program names a runtime that doesn't exist, or that isn't there on this platform.",
    UnknownProgram "unknown-program": "A table names a program that doesn't exist, or that isn't built for this platform.",
    OverLimit "over-limit": "The manifest is larger than the tool accepts.",
    ExampleId "example-id": "The product's id is still the one that `init` wrote. Change it before the first release: it can't change afterwards.",
    IdChanged "id-changed": "The product's id isn't the one that `shelf.lock` remembers. Installed versions are found by it: under another id they would never be upgraded.",
    DamagedLock "damaged-lock": "`shelf.lock` can't be read. Restore it from version control.",
    NothingToBuild "nothing-to-build": "None of the chosen formats is for any of the chosen platforms.",
    WrongUse "wrong-use": "The command's arguments can't be combined.",
    NoFiles "no-files": "A folder or layer contains no files.",
    NoMatch "no-match": "A pattern matches no file.",
    MissingFile "missing-file": "A file that the manifest or the command line names doesn't exist.",
    Unreadable "unreadable": "A file or folder can't be read.",
    Source "source": "A source can't be had: it isn't in the cache, can't be fetched, or is another file than the manifest means.",
    Runtime "runtime": "A runtime can't be used: it isn't whole, is older than what it has to run, or has no such part.",
    RuntimePart "runtime-part": "A part of a runtime is left out that may be looked for by its name, or it isn't known what is needed.",
    LibraryPart "library-part": "Something that a library loads by name at run time can't come along.",
    SpecialFile "special-file": "A device, pipe or socket lies among the files; packages hold files, folders and links only.",
    NameNotAllowed "name-not-allowed": "The system that the package is for can't store a file of this name.",
    NameClash "name-clash": "Two files would have the same name on the system that the package is for, or a file stands where a folder is.",
    LinkOutside "link-outside": "A symbolic link leads out of the payload.",
    BrokenLink "broken-link": "A symbolic link leads to a file that isn't in the payload.",
    WrongProgram "wrong-program": "A program is built for another system or processor, or can't be started by itself.",
    NotExecutable "not-executable": "A program's file isn't executable.",
    Program "program": "A program's file can't be worked on: it is damaged, or not of the expected kind.",
    ChangedDuringBuild "changed-during-build": "A file changed while it was being packed. Build again when nothing else writes there.",
    SignatureDropped "signature-dropped": "A program is signed, and a different icon or version in it makes the signature invalid. It is removed only with `drop-signature = true`.",
    Certificate "certificate": "A certificate can't be used: it is missing, malformed, expired or soon to, or made for something else.",
    Key "key": "A key can't be used: it is malformed, of a kind that isn't used here, or not that of the certificate.",
    Secret "secret": "The secret of a key is missing or wrong.",
    Notary "notary": "Apple's notary can't be reached, doesn't know the key, or has rejected a package; its reasons are shown.",
    NotSignable "not-signable": "A file is of no format that is signed here, or leaves no room for a signature.",
    AlreadySigned "already-signed": "A file has a signature already, and nobody said what is to become of it.",
    Signature "signature": "A signature that was just made doesn't hold. The file is as it was.",
    DigestList "digest-list": "A list of digests can't be read, or a signature in it isn't that of its digest and key.",
    Awaited "awaited": "A build without keys waits for signatures: sign the digests in the list, and run the same build again.",
    NoTimestamp "no-timestamp": "No authority gave a timestamp. Nothing was signed.",
    Icon "icon": "A picture can't be used, or won't look good everywhere.",
    NeedsProgram "needs-program": "The format starts a program, and the manifest has none.",
    FormatLimit "format-limit": "The format can't hold this: a size, name, version or character.",
    NotInPackages "not-in-packages": "A program does something that Windows doesn't allow to what it installs from an MSIX package: that is told from its imports and texts, so it may be wrong.",
    Reserved "reserved": "The name is taken by something that the tool or the format puts there itself.",
    NeedsAdministrator "needs-administrator": "A product for one user asks for something that only an administrator can install.",
    MinimumSystem "minimum-system": "A file needs a newer system than the one that the manifest declares as sufficient.",
    MissingLibrary "missing-library": "A program loads a library that is neither in the payload nor part of the system.",
    BuildPath "build-path": "A program looks for libraries in a folder of the machine that it was built on.",
    FinishedBundle "finished-bundle": "The payload is a finished application bundle, and the manifest asks for something that doesn't fit it.",
    WindowRoom "window-room": "Words or icons don't fit into a page of the wizard or the window of the disk image.",
    FormatRules "format-rules": "A package breaks rules of its format.",
    ReadBack "read-back": "A package that was just written doesn't read back as it should. It is discarded.",
    Internal "internal": "This is a bug in the tool. Please report it.",
    DestinationExists "destination-exists": "The folder that files are extracted into already exists and isn't empty.",
    NotAPackage "not-a-package": "The file isn't in any format that the tool reads.",
    DamagedPackage "damaged-package": "The package is damaged or incomplete, contradicts itself, or costs more to read than its limit allows (`--limit` raises it).",
    UnsupportedPackage "unsupported-package": "The package is intact, but uses a variant of its format that isn't supported.",
    DiskFull "disk-full": "No space is left on the disk.",
    PermissionDenied "permission-denied": "The system doesn't permit it.",
    ReadOnlyDisk "read-only-disk": "The folder is on a read-only file system.",
    NotFound "not-found": "A file or folder doesn't exist.",
    InputOutput "input-output": "Reading or writing failed for another reason, which is given.",
    Busy "busy": "Another build is writing the same package.",
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn names_differ_and_are_as_json_has_them() {
        let names: BTreeSet<&str> = Code::ALL.iter().map(|code| code.name()).collect();
        assert_eq!(names.len(), Code::ALL.len());
        for code in Code::ALL {
            assert_eq!(serde_json::to_value(code).expect("JSON"), code.name());
            assert!(code.name().chars().all(|c| c.is_ascii_lowercase() || c == '-'), "{}", code.name());
            assert!(code.about().ends_with(['.', ')']), "{}", code.name());
        }
    }
}
