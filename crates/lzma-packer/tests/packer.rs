//! The streams are those of liblzma's own memory, and its decoder reads them.

use liblzma::stream::{Action, Filters, LzmaOptions, MatchFinder, Mode, Status, Stream};
use lzma_packer::{Failed, Packer, Step};
use proptest::prelude::*;

/// Text with repeats near and far, and stretches that no packer shortens.
fn plain(bytes: usize) -> Vec<u8> {
    let mut seed = 0x9E37_79B9_7F4A_7C15_u64;
    let mut out = Vec::with_capacity(bytes + 64);
    while out.len() < bytes {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        match seed >> 61 {
            0 => out.extend(seed.to_le_bytes()),
            1 if out.len() > 100 => {
                let from = (seed >> 20) as usize % (out.len() - 80);
                out.extend_from_within(from..from + 60);
            }
            _ => out.extend(format!("hive {} frame {}\r\n", (seed >> 40) % 100, (seed >> 50) % 10).bytes()),
        }
    }
    out
}

/// All of a stream, with so many plain bytes and so much room in each step.
fn packed(plain: &[u8], dictionary: u32, filtered: bool, threads: usize, piece: usize, room: usize) -> Vec<u8> {
    let mut packer = Packer::new(dictionary, filtered, threads).expect("begun");
    let (mut out, mut buffer, mut rest) = (Vec::new(), vec![0; room], plain);
    loop {
        let now = &rest[..rest.len().min(piece)];
        let step = packer.step(now, &mut buffer, now.len() == rest.len()).expect("packed");
        out.extend(&buffer[..step.given]);
        rest = &rest[step.taken..];
        if step.ended {
            return out;
        }
    }
}

fn filters(dictionary: u32, filtered: bool) -> Filters {
    let mut options = LzmaOptions::new_preset(6).expect("a preset");
    options.dict_size(dictionary).mode(Mode::Normal).match_finder(MatchFinder::BinaryTree4).nice_len(32);
    let mut filters = Filters::new();
    if filtered {
        filters.x86();
    }
    filters.lzma1(&options);
    filters
}

/// What the safe bindings make of it, all at once.
fn expected(plain: &[u8], dictionary: u32, filtered: bool) -> Vec<u8> {
    let mut stream = Stream::new_raw_encoder(&filters(dictionary, filtered)).expect("begun");
    let mut out = Vec::with_capacity(plain.len() * 2 + 1000);
    assert_eq!(stream.process_vec(plain, &mut out, Action::Finish).expect("packed"), Status::StreamEnd);
    out
}

#[test]
fn bytes_do_not_depend_on_memory_pieces_or_threads() {
    let plain = plain(600_000);
    for (dictionary, filtered) in [(1 << 12, false), (1 << 16, false), (1 << 20, true), (4 << 20, false)] {
        let whole = expected(&plain, dictionary, filtered);
        for threads in [1, 2] {
            assert!(
                packed(&plain, dictionary, filtered, threads, usize::MAX, 1 << 20) == whole,
                "{dictionary} {threads}"
            );
            assert!(
                packed(&plain, dictionary, filtered, threads, 4099, 333) == whole,
                "{dictionary} {threads} in pieces"
            );
        }
    }
}

/// Longer than what the encoder is held behind, than several loads of matches, and than windows that move.
#[test]
fn long_streams_are_the_same_on_two_threads() {
    let mut plain = plain(7 << 19);
    plain.extend(vec![0; 1 << 20]);
    plain.extend_from_within(1000..300_000);
    for (dictionary, filtered) in [(1 << 16, true), (2 << 20, false)] {
        let whole = packed(&plain, dictionary, filtered, 1, 1 << 16, 1 << 16);
        assert!(packed(&plain, dictionary, filtered, 2, 1 << 16, 1 << 16) == whole, "{dictionary}");
        assert!(packed(&plain, dictionary, filtered, 2, usize::MAX, 100) == whole, "{dictionary} at once");
    }
}

/// Ends at every place: where the finder's last 32 bytes are, and what it can't look at any more.
#[test]
fn short_streams_are_the_same_on_two_threads() {
    let plain = plain(700);
    for length in (0..100).chain([600, 650, 699]) {
        for filtered in [false, true] {
            let whole = packed(&plain[..length], 1 << 12, filtered, 1, usize::MAX, 1 << 12);
            assert!(packed(&plain[..length], 1 << 12, filtered, 2, 7, 5) == whole, "{length} bytes");
        }
    }
}

#[test]
fn it_unpacks_to_what_it_was() {
    for threads in [1, 2] {
        for plain in [plain(1 << 20), b"e".to_vec(), vec![]] {
            let bytes = packed(&plain, 1 << 20, true, threads, 1 << 14, 1 << 14);
            let mut stream = Stream::new_raw_decoder(&filters(1 << 20, true)).expect("begun");
            let mut out = Vec::with_capacity(plain.len() + 1);
            stream.process_vec(&bytes, &mut out, Action::Run).expect("unpacked");
            assert!(out == plain);
        }
    }
}

#[test]
fn dictionaries_out_of_bounds_are_refused() {
    for threads in [1, 2] {
        assert_eq!(Packer::new(100, false, threads).err(), Some(Failed));
        assert_eq!(Packer::new(u32::MAX, false, threads).err(), Some(Failed));
    }
}

#[test]
fn nothing_comes_after_the_end() {
    for threads in [1, 2] {
        let mut packer = Packer::new(1 << 16, false, threads).expect("begun");
        let mut out = [0; 100];
        assert!(packer.step(b"wax", &mut out, true).expect("packed").ended);
        assert_eq!(packer.step(b"more", &mut out, true), Ok(Step { taken: 0, given: 0, ended: true }));
    }
}

#[test]
fn a_stream_may_end_early_and_on_another_thread() {
    for (threads, bytes) in [(1, 100_000), (2, 0), (2, 100_000), (2, 6_000_000)] {
        let mut packer = Packer::new(4 << 20, false, threads).expect("begun");
        packer.step(&plain(bytes), &mut [0; 10], false).expect("packed");
        std::thread::spawn(move || drop(packer)).join().expect("no panic");
    }
}

/// Stretches of one byte, of few different ones, of any, and of what came before.
fn made_up() -> impl Strategy<Value = Vec<u8>> {
    let stretch = prop_oneof![
        (any::<u8>(), 1..2000usize).prop_map(|(byte, n)| vec![byte; n]),
        proptest::collection::vec(0..3u8, 1..600),
        proptest::collection::vec(any::<u8>(), 1..600),
        // Calls in x86 code, which the filter changes.
        proptest::collection::vec(any::<u8>(), 8..80)
            .prop_map(|b| b.chunks(4).flat_map(|c| [&[0xE8], c].concat()).collect()),
    ];
    proptest::collection::vec((stretch, any::<bool>()), 0..12).prop_map(|all| {
        all.into_iter().fold(Vec::new(), |mut out, (stretch, again)| {
            out.extend(stretch);
            if again {
                out.extend_from_within(out.len() / 3..);
            }
            out
        })
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn any_bytes_in_any_pieces_give_the_librarys_own_stream(
        plain in made_up(),
        dictionary in 1u32 << 12..1 << 16,
        filtered: bool,
        threads in 1..4usize,
        piece in 1..5000usize,
        room in 1..3000usize,
    ) {
        let whole = expected(&plain, dictionary, filtered);
        prop_assert!(packed(&plain, dictionary, filtered, threads, piece, room) == whole);
    }
}
