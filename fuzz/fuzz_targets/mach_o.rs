//! Any bytes as a Mach-O file: data or an error.
//! `cargo +nightly fuzz run mach_o -- -max_len=100000`
#![no_main]

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let bytes = bytes.to_vec();
    if let Ok(Some(_)) = mach_o::read(&bytes) {
        if let Ok(Some(parts)) = mach_o::SignedParts::find(&bytes) {
            let all: Vec<(u64, Vec<u8>)> = parts.slices.iter().map(|_| (16, vec![7; 16])).collect();
            let _ = parts.slices.iter().map(|slice| slice.signature(&bytes)).count();
            if let Ok(signed) = parts.signed(bytes.clone(), &all) {
                let mut out = vec![0; signed.size().min(1 << 20) as usize];
                let _ = read_at::ReadAt::read_exact_at(&signed, &mut out, 0);
            }
        }
        let _ = mach_o::join(&[bytes], std::io::sink());
    }
});
