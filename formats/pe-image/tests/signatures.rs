//! Where signatures stand in programs: what is signed, what is not, and the one form in which that is read.

use pe_image::SignedParts;
use std::io::Cursor;

const OURS: &[u8] = include_bytes!("../../../demo/files/built/windows-x64/combwright.exe");

fn signed_bytes(file: &[u8]) -> Vec<u8> {
    let mut file = Cursor::new(file);
    let mut all = Vec::new();
    let parts = SignedParts::find(&mut file).expect("a program");
    parts.feed(&mut file, |bytes| all.extend_from_slice(bytes)).expect("read");
    all
}

fn with(file: &[u8], signatures: &[Vec<u8>]) -> Vec<u8> {
    let mut file = Cursor::new(file.to_vec());
    let parts = SignedParts::find(&mut file).expect("a program");
    parts.put(&mut file, signatures).expect("written");
    file.into_inner()
}

fn found(file: &[u8]) -> Result<Vec<Vec<u8>>, String> {
    let mut file = Cursor::new(file);
    let parts = SignedParts::find(&mut file).map_err(|e| e.to_string())?;
    parts.signatures(&mut file).map_err(|e| e.to_string())
}

/// Something that says how long it is, as signed messages do.
fn message(length: usize) -> Vec<u8> {
    let mut all = vec![0x30, 0x82, (length >> 8) as u8, length as u8];
    all.resize(length + 4, 0x5a);
    all
}

#[test]
fn a_signature_is_put_on_taken_off_and_put_on_again() {
    for extra in 0..9 {
        // Setup programs have their data behind the program.
        let plain = [OURS, &vec![7; extra]].concat();
        let before = signed_bytes(&plain);
        let all = [message(1), message(300), message(4093)];
        for n in 1..=3 {
            let signed = with(&plain, &all[..n]);
            assert_eq!(signed.len() % 8, 0);
            assert_eq!(found(&signed).expect("found"), all[..n]);
            assert_eq!(signed_bytes(&signed), before, "what is signed stays what it was");
            let mut file = Cursor::new(&plain[..]);
            let parts = SignedParts::find(&mut file).expect("a program");
            let overlay = parts.signed(plain.clone(), &all[..n]).expect("an overlay");
            let mut read = Vec::new();
            std::io::Read::read_to_end(&mut read_at::Cursor::new(&overlay), &mut read).expect("read");
            assert!(read == signed && overlay.size() == signed.len() as u64, "without a copy it is the same");
            assert_eq!(with(&signed, &all[..1]), with(&plain, &all[..1]), "one in the place of the others");
            let bare = with(&signed, &[]);
            assert!(found(&bare).expect("found").is_empty());
            assert_eq!(signed_bytes(&bare), before);
        }
    }
}

#[test]
fn every_byte_is_signed_but_for_the_checksum_and_where_the_table_is() {
    let signed = with(OURS, &[message(60)]);
    let before = signed_bytes(&signed);
    let mut outside = Vec::new();
    for at in 0..OURS.len() {
        let mut changed = signed.clone();
        changed[at] ^= 0x11;
        let mut file = Cursor::new(&changed[..]);
        // A header that is none any more can't be signed either.
        let Ok(parts) = SignedParts::find(&mut file) else { continue };
        let mut all = Vec::new();
        if parts.feed(&mut file, |bytes| all.extend_from_slice(bytes)).is_ok() && all == before {
            outside.push(at);
        }
    }
    let headers = u32::from_le_bytes(OURS[60..64].try_into().expect("four bytes")) as usize;
    let checksum = headers + 24 + 64;
    assert_eq!(outside, (checksum..checksum + 4).collect::<Vec<_>>());
}

#[test]
fn a_table_in_another_form_is_refused() {
    let signed = with(OURS, &[message(61)]);
    let table = OURS.len().next_multiple_of(8);
    let entry = (0..table).find(|at| signed[*at..at + 4] == (table as u32).to_le_bytes()).expect("the entry");
    let changed = |at: usize, new: &[u8]| {
        let mut file = signed.clone();
        file[at..at + new.len()].copy_from_slice(new);
        found(&file).expect_err("refused")
    };
    let behind = |more: &[u8]| found(&[&signed[..], more].concat()).expect_err("refused");
    // Something behind the table would be signed by nobody.
    for more in [&[0][..], &[0; 8], b"payload!"] {
        assert!(behind(more).contains("does not end the file"), "{}", behind(more));
    }
    for (at, new) in [(entry, 4u32), (entry, table as u32 - 8), (entry + 4, 8), (entry + 4, u32::MAX)] {
        assert!(changed(at, &new.to_le_bytes()).contains("does not end the file"));
    }
    for length in [0u32, 8, 60, 200, u32::MAX] {
        let said = changed(table, &length.to_le_bytes());
        assert!(said.contains("signature"), "{said}");
    }
    assert!(changed(table + 4, &[0, 1]).contains("version 0x100"));
    assert!(changed(table + 6, &[1, 0]).contains("kind 1"));
    assert!(changed(signed.len() - 1, b"x").contains("something is hidden behind a signature"));
    // The message says that it is shorter than its place.
    assert!(changed(table + 10, &[0, 1]).contains("something is hidden behind a signature"));
    assert!(changed(table + 9, &[0x88]).contains("no signed message"));
}

#[test]
fn what_is_no_program_or_cut_off_has_no_place_for_signatures() {
    for end in 0..OURS.len().min(1024) {
        let _ = found(&OURS[..end]);
    }
    assert!(found(b"").expect_err("refused").contains("ends too early"));
    assert!(found(&[0; 100]).expect_err("refused").contains("not a PE file"));
    let mut no_room = OURS.to_vec();
    let headers = u32::from_le_bytes(OURS[60..64].try_into().expect("four bytes")) as usize;
    no_room[headers + 24 + 112 - 4] = 4;
    assert!(found(&no_room).expect_err("refused").contains("no room for a signature"));
}

#[test]
fn pages_are_those_of_the_sections_and_sections_that_lie_elsewhere_are_told() {
    let pages = |file: &[u8]| {
        let mut file = Cursor::new(file);
        let parts = SignedParts::find(&mut file).map_err(|e| e.to_string())?;
        let mut seen = Vec::new();
        let table = parts.pages(&mut file, 2, |all| {
            seen.push(all.iter().map(|part| part.len()).sum::<usize>());
            vec![seen.len() as u8, 0]
        });
        table.map(|table| (table, seen)).map_err(|e| e.to_string())
    };
    let (table, seen) = pages(OURS).expect("pages");
    // The headers lack checksum and entry; everything else is a whole page.
    assert_eq!(seen[0], 4096 - 12);
    assert!(seen[1..].iter().all(|page| *page == 4096) && seen.len() > 2, "{seen:?}");
    assert_eq!(table.len(), (seen.len() + 1) * 6);
    assert_eq!(table[..6], [0, 0, 0, 0, 1, 0]);
    assert_eq!(table[table.len() - 2..], [0, 0], "the end has no digest");
    assert_eq!(pages(&with(OURS, &[message(300)])).expect("pages"), (table, seen), "a signature changes none");
    let headers = u32::from_le_bytes(OURS[60..64].try_into().expect("four bytes")) as usize;
    let room = u16::from_le_bytes(OURS[headers + 20..headers + 22].try_into().expect("two bytes")) as usize;
    for (what, at, bytes) in [
        ("a page of 3 bytes", headers + 24 + 32, [3, 0, 0, 0]),
        ("a page of 2 GiB", headers + 24 + 32, [0, 0, 0, 0x80]),
        ("headers of 64 bytes", headers + 24 + 60, [64, 0, 0, 0]),
        ("headers of 4 GiB", headers + 24 + 60, [255; 4]),
        ("a section before the headers' end", headers + 24 + room + 20, [16, 0, 0, 0]),
        ("a section of 4 GiB", headers + 24 + room + 16, [255; 4]),
    ] {
        let mut bad = OURS.to_vec();
        bad[at..at + 4].copy_from_slice(&bytes);
        assert!(pages(&bad).is_err(), "{what}");
    }
}
