//! What lies behind liblzma's open interface, as its release 5.8.4 has it: the window and the finder of matches
//! (`lz/lz_encoder.h`), the seam between coders (`common/common.h`), and the LZMA encoder (`lzma/lzma_encoder.h`). The
//! names are the library's. Structures of another release may be others, so nothing here is used with one.

#![allow(non_camel_case_types)]

use liblzma_sys as c;
use std::ffi::c_void;

/// Whether what is linked is the release that these structures were read from.
pub(crate) fn is_known() -> bool {
    // SAFETY: it takes nothing and gives a number.
    unsafe { c::lzma_version_number() == 50_080_042 }
}

/// A length and a distance less one.
#[repr(C)]
#[derive(Debug, Clone, Copy)]
pub(crate) struct lzma_match {
    pub(crate) len: u32,
    pub(crate) dist: u32,
}

/// The window over the plain bytes, and the finder of matches in it.
#[repr(C)]
#[derive(Clone, Copy)]
pub(crate) struct lzma_mf {
    pub(crate) buffer: *mut u8,
    pub(crate) size: u32,
    pub(crate) keep_size_before: u32,
    pub(crate) keep_size_after: u32,
    pub(crate) offset: u32,
    /// The next byte that goes through the finder.
    pub(crate) read_pos: u32,
    /// Bytes that went through the finder and are not encoded yet.
    pub(crate) read_ahead: u32,
    /// Up to here there is enough behind `read_pos`.
    pub(crate) read_limit: u32,
    pub(crate) write_pos: u32,
    pub(crate) pending: u32,
    /// Goes to the next byte; gives the number of matches that it wrote, each longer than the one before.
    pub(crate) find: Option<unsafe extern "C" fn(*mut lzma_mf, *mut lzma_match) -> u32>,
    /// Goes so many bytes on.
    pub(crate) skip: Option<unsafe extern "C" fn(*mut lzma_mf, u32)>,
    pub(crate) hash: *mut u32,
    pub(crate) son: *mut u32,
    pub(crate) cyclic_pos: u32,
    pub(crate) cyclic_size: u32,
    pub(crate) hash_mask: u32,
    pub(crate) depth: u32,
    pub(crate) nice_len: u32,
    pub(crate) match_len_max: u32,
    pub(crate) action: c::lzma_action,
    pub(crate) hash_count: u32,
    pub(crate) sons_count: u32,
}

/// What an encoder asks of the window.
#[repr(C)]
pub(crate) struct lzma_lz_options {
    pub(crate) before_size: usize,
    pub(crate) dict_size: usize,
    pub(crate) after_size: usize,
    pub(crate) match_len_max: usize,
    pub(crate) nice_len: usize,
    pub(crate) match_finder: c::lzma_match_finder,
    pub(crate) depth: u32,
    pub(crate) preset_dict: *const u8,
    pub(crate) preset_dict_size: u32,
}

/// An encoder behind a window.
#[repr(C)]
pub(crate) struct lzma_lz_encoder {
    pub(crate) coder: *mut c_void,
    pub(crate) code: Option<unsafe extern "C" fn(*mut c_void, *mut lzma_mf, *mut u8, *mut usize, usize) -> c::lzma_ret>,
    pub(crate) end: Option<unsafe extern "C" fn(*mut c_void, *const c::lzma_allocator)>,
    pub(crate) options_update: Option<unsafe extern "C" fn(*mut c_void, *const c::lzma_filter) -> c::lzma_ret>,
    pub(crate) set_out_limit: Option<unsafe extern "C" fn(*mut c_void, *mut u64, u64) -> c::lzma_ret>,
}

/// Makes the encoder behind a window, out of the options of its filter, and says what it asks of the window.
pub(crate) type lz_init_function = unsafe extern "C" fn(
    *mut lzma_lz_encoder,
    *const c::lzma_allocator,
    c::lzma_vli,
    *const c_void,
    *mut lzma_lz_options,
) -> c::lzma_ret;

pub(crate) type lzma_init_function =
    unsafe extern "C" fn(*mut lzma_next_coder, *const c::lzma_allocator, *const lzma_filter_info) -> c::lzma_ret;

/// One filter of a chain that is being made; the last has no `init`.
#[repr(C)]
pub(crate) struct lzma_filter_info {
    pub(crate) id: c::lzma_vli,
    pub(crate) init: Option<lzma_init_function>,
    pub(crate) options: *mut c_void,
}

/// A chain of coders.
#[repr(C)]
pub(crate) struct lzma_next_coder {
    pub(crate) coder: *mut c_void,
    pub(crate) id: c::lzma_vli,
    pub(crate) init: usize,
    pub(crate) code: Option<
        unsafe extern "C" fn(
            *mut c_void,
            *const c::lzma_allocator,
            *const u8,
            *mut usize,
            usize,
            *mut u8,
            *mut usize,
            usize,
            c::lzma_action,
        ) -> c::lzma_ret,
    >,
    pub(crate) end: Option<unsafe extern "C" fn(*mut c_void, *const c::lzma_allocator)>,
    /// Pointers to functions that nothing here calls.
    pub(crate) others: [Option<unsafe extern "C" fn()>; 5],
}

impl lzma_next_coder {
    /// `LZMA_NEXT_CODER_INIT`.
    pub(crate) const EMPTY: Self = Self {
        coder: std::ptr::null_mut(),
        id: c::LZMA_VLI_UNKNOWN,
        init: 0,
        code: None,
        end: None,
        others: [None; 5],
    };
}

unsafe extern "C" {
    /// Makes a window; `lz_init` makes the encoder behind it and says what it needs. `next` must be empty; whatever comes
    /// of it, it is ended with [`lzma_next_end`].
    pub(crate) fn lzma_lz_encoder_init(
        next: *mut lzma_next_coder,
        allocator: *const c::lzma_allocator,
        filters: *const lzma_filter_info,
        lz_init: lz_init_function,
    ) -> c::lzma_ret;
    pub(crate) fn lzma_simple_x86_encoder_init(
        next: *mut lzma_next_coder,
        allocator: *const c::lzma_allocator,
        filters: *const lzma_filter_info,
    ) -> c::lzma_ret;
    pub(crate) fn lzma_lzma_encoder_create(
        coder: *mut *mut c_void,
        allocator: *const c::lzma_allocator,
        id: c::lzma_vli,
        options: *const c::lzma_options_lzma,
        lz_options: *mut lzma_lz_options,
    ) -> c::lzma_ret;
    pub(crate) fn lzma_lzma_encode(
        coder: *mut c_void,
        mf: *mut lzma_mf,
        out: *mut u8,
        out_pos: *mut usize,
        out_size: usize,
        limit: u32,
    ) -> c::lzma_ret;
    pub(crate) fn lzma_next_end(next: *mut lzma_next_coder, allocator: *const c::lzma_allocator);
    pub(crate) fn lzma_free(at: *mut c_void, allocator: *const c::lzma_allocator);
}

#[cfg(test)]
mod tests {
    /// A new release of liblzma: read `lz_encoder.h`, `common.h` and `lzma_encoder.h` again before this number changes.
    #[test]
    fn the_linked_release_is_the_one_that_was_read() {
        assert!(super::is_known());
    }
}
