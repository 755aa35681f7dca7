//! For tests: what the system says of a file's signature (`WinVerifyTrust`).

use crate::system::*;
use core::ptr::{addr_of, null};

/// `WINTRUST_ACTION_GENERIC_VERIFY_V2`.
static ACTION: Guid = Guid(0x00AA_C56B, 0xCD44, 0x11D0, [0x8C, 0xC2, 0, 0xC0, 0x4F, 0xC2, 0x95, 0xEE]);
/// `CERT_E_UNTRUSTEDROOT`: all fits, and leads to an authority that this system doesn't know.
const UNKNOWN_AUTHORITY: u32 = 0x800B_0109;

/// 0 for a signature that fits, whoever is trusted; else 1.
///
/// # Safety
/// The path ends with a zero.
pub unsafe fn ask(path: *const u16) -> u32 {
    let file = TrustFile { size: core::mem::size_of::<TrustFile>() as u32, path, handle: 0, known: null() };
    let data = TrustData {
        size: core::mem::size_of::<TrustData>() as u32,
        // Without windows (2), about a file (1).
        ui: 2,
        union: 1,
        file: addr_of!(file),
        ..TrustData::default()
    };
    match WinVerifyTrust(-1, addr_of!(ACTION), addr_of!(data)) as u32 {
        0 | UNKNOWN_AUTHORITY => 0,
        _ => 1,
    }
}
