//! What a head says of itself to the system: that the libraries which it names are looked for in the system's own folder
//! and nowhere else. Beside a downloaded program anybody may have put a library with a name of the system's.

/// `LOAD_LIBRARY_SEARCH_SYSTEM32`.
pub const SYSTEM_ONLY: u32 = 0x800;

/// `IMAGE_LOAD_CONFIG_DIRECTORY`, as far as it matters: how many bytes it has, and `DependentLoadFlags`, which say where
/// the system looks for the libraries that the program names ("The Load Configuration Structure" in Microsoft's
/// description of the PE format).
#[cfg(target_pointer_width = "64")]
#[repr(C, align(8))]
pub struct LoadConfig {
    size: u32,
    before: [u8; 74],
    dependent_load_flags: u16,
    behind: [u8; 32],
}
#[cfg(target_pointer_width = "32")]
#[repr(C, align(8))]
pub struct LoadConfig {
    size: u32,
    before: [u8; 50],
    dependent_load_flags: u16,
    behind: [u8; 16],
}

const CONFIG: LoadConfig = LoadConfig {
    size: core::mem::size_of::<LoadConfig>() as u32,
    before: [0; core::mem::offset_of!(LoadConfig, dependent_load_flags) - 4],
    dependent_load_flags: SYSTEM_ONLY as u16,
    behind: [0; core::mem::size_of::<LoadConfig>() - core::mem::offset_of!(LoadConfig, dependent_load_flags) - 2],
};

/// The linker finds it by its name.
#[no_mangle]
#[used]
#[allow(non_upper_case_globals)]
pub static _load_config_used: LoadConfig = CONFIG;
