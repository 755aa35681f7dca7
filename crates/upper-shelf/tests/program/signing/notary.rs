//! Apple's notary, by a stand-in that comes with the tool: what is accepted gets a ticket, what isn't is told why.

use super::macos::{bundle, second_reading};
use super::*;
use crate::common::Folder;

/// A notary on this machine.
struct Notary(StandIn);

impl Notary {
    fn of(keys: &str, more: &[&str]) -> Self {
        Self(StandIn::of("notary", keys, more))
    }

    fn notarize(&self, folder: &Folder, file: &str, keys: &str) -> (i32, String) {
        let key = KEYS.at(&format!("{keys}/code-signing.key.pem")).to_string_lossy().into_owned();
        let (storage, tickets) = (format!("{}storage", self.0.1), format!("{}tickets", self.0.1));
        let words = ["--key-id", "K1", "--issuer", "somebody", "--service", &self.0.1, "--storage", &storage];
        let words = [&["notarize", file, "--key", &key], &words[..], &["--tickets", &tickets]].concat();
        let (code, said) = folder.run(&words);
        (code, said.replace(&self.0.1, "NOTARY/"))
    }
}

/// A disk image with a bundle in it, signed with a timestamp or without.
fn image(more: &str) -> Folder {
    let folder = super::macos::product(&format!("{}{more}", super::macos::SIGNING));
    folder.ok(&["build", "--target", "dmg", "--output", "."]);
    folder
}

const IMAGE: &str = "Hive-1.0.0-macos-arm64.dmg";

#[test]
fn what_is_signed_guarded_and_timestamped_is_accepted_and_gets_its_ticket() {
    let (clock, notary) = (Authority::of("p256"), Notary::of("p256", &["--delay", "300"]));
    let folder = image(&format!("timestamps = [\"{}\"]\n", clock.1));
    let before = second_reading(&folder.at(IMAGE), &roots("p256"));
    let (code, said) = notary.notarize(&folder, IMAGE, "p256");
    assert_eq!(code, 0, "{said}");
    for part in ["is sent to the notary as submission-1", "is being looked at", "accepted, and has its ticket"] {
        assert!(said.contains(part), "{said}");
    }
    assert_eq!(second_reading(&folder.at(IMAGE), &roots("p256")), before, "nothing that is signed has changed");
    let (code, said) = folder.run(&["verify", IMAGE, "--roots", &roots("p256")]);
    assert!(code == 0 && said.contains("not checked: what its ticket of Apple's notary says"), "{said}");
    // A second time it is the same.
    let first = std::fs::read(folder.at(IMAGE)).expect("read");
    assert_eq!(notary.notarize(&folder, IMAGE, "p256").0, 0);
    assert!(first == std::fs::read(folder.at(IMAGE)).expect("read"));
    // A bundle has its ticket in a file of its own.
    let folder = bundle();
    assert_eq!(sign(&folder, "Hive.app", "p256", &["--timestamps", &clock.1]).0, 0);
    let (code, said) = notary.notarize(&folder, "Hive.app", "p256");
    assert_eq!(code, 0, "{said}");
    let ticket = std::fs::read_to_string(folder.at("Hive.app/Contents/CodeResources")).expect("a ticket");
    assert!(ticket.starts_with("TEST TICKET"), "{ticket}");
    second_reading(&folder.at("Hive.app"), &roots("p256"));
    assert_eq!(folder.names("."), ["Hive.app"], "nothing is left beside it");
}

#[test]
fn what_is_not_accepted_is_told_with_every_reason_and_stays_as_it_is() {
    let notary = Notary::of("p256", &[]);
    let folder = image("hardened-runtime = false\n");
    let before = std::fs::read(folder.at(IMAGE)).expect("read");
    let said_all = |said: &str, parts: &[&str]| parts.iter().all(|part| said.contains(part));
    for (wanted, parts, notary, keys) in [
        (
            1,
            &[
                "dmg: its signature has no timestamp",
                "Hive.app: its signature has no timestamp",
                "Hive.app: the hardened runtime does not guard it",
                "the notary has rejected Hive-1.0.0-macos-arm64.dmg (Invalid)",
                "its number there is submission-1",
            ][..],
            &notary,
            "p256",
        ),
        (3, &["can't be sent to the notary", "it doesn't know the key K1 of somebody"], &notary, "strangers"),
        (1, &["nothing is accepted here", "rejected"], &Notary::of("p256", &["--reject"]), "p256"),
    ] {
        let (code, said) = notary.notarize(&folder, IMAGE, keys);
        assert!(code == wanted && said_all(&said, parts), "{code}: {said}");
        assert!(before == std::fs::read(folder.at(IMAGE)).expect("read"), "{said}");
    }
    // What is not signed at all is not even sent.
    let unsigned = super::macos::product("");
    unsigned.ok(&["build", "--target", "dmg", "--output", "."]);
    let (code, said) = notary.notarize(&unsigned, IMAGE, "p256");
    assert!(code != 0 && said_all(&said, &["can't have a ticket", "it is not signed"]), "{code}: {said}");
    let words = ["notarize", IMAGE, "--key", "k", "--key-id", "K", "--issuer", "I", "--service", "http://a.example/"];
    let words = [&words[..], &["--storage", "https://b.example/", "--tickets", "ftp://c.example"]].concat();
    let (code, said) = folder.run(&words);
    let parts = ["\"http://a.example/\" is no address of a notary", "\"ftp://c.example\" is no address", "2 errors"];
    assert!(code == 1 && said_all(&said, &parts), "{code}: {said}");
}
