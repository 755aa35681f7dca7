//! A stream on one thread, through liblzma's open interface.

use crate::memory::Memory;
use crate::{Failed, Step};
use liblzma_sys as c;
use std::ptr::null_mut;

pub(crate) struct Single {
    stream: c::lzma_stream,
    /// Behind the stream, which uses it until it is ended.
    _memory: Box<Memory>,
}

// SAFETY: liblzma keeps nothing in thread-local storage and starts no threads here; all that a stream points to belongs to
// it alone, and so may move to another thread with it.
unsafe impl Send for Single {}

impl Single {
    pub(crate) fn new(mut options: c::lzma_options_lzma, filtered: bool) -> Result<Self, Failed> {
        let lzma = c::lzma_filter { id: c::LZMA_FILTER_LZMA1, options: (&raw mut options).cast() };
        let x86 = || c::lzma_filter { id: c::LZMA_FILTER_X86, options: null_mut() };
        let end = || c::lzma_filter { id: c::LZMA_VLI_UNKNOWN, options: null_mut() };
        let filters = if filtered { [x86(), lzma, end()] } else { [lzma, end(), end()] };
        let memory = Memory::new();
        // SAFETY: `LZMA_STREAM_INIT` is all zeros.
        let stream: c::lzma_stream = unsafe { std::mem::zeroed() };
        let stream = c::lzma_stream { allocator: memory.allocator(), ..stream };
        let mut it = Self { stream, _memory: memory };
        // SAFETY: the stream is as `LZMA_STREAM_INIT`, the filters end with the unknown one and point to options that
        // live until the call is over; liblzma copies them.
        let code = unsafe { c::lzma_raw_encoder(&mut it.stream, filters.as_ptr()) };
        if code == c::LZMA_OK { Ok(it) } else { Err(Failed) }
    }

    pub(crate) fn step(&mut self, input: &[u8], output: &mut [u8], finish: bool) -> Result<Step, Failed> {
        let stream = &mut self.stream;
        (stream.next_in, stream.avail_in) = (input.as_ptr(), input.len());
        (stream.next_out, stream.avail_out) = (output.as_mut_ptr(), output.len());
        let action = if finish { c::LZMA_FINISH } else { c::LZMA_RUN };
        // SAFETY: the stream has been begun; both pointers are good for as many bytes as are said beside them.
        let code = unsafe { c::lzma_code(stream, action) };
        let taken = input.len() - stream.avail_in;
        let step = Step { taken, given: output.len() - stream.avail_out, ended: code == c::LZMA_STREAM_END };
        // The buffers are the caller's again.
        (stream.next_in, stream.avail_in) = (std::ptr::null(), 0);
        (stream.next_out, stream.avail_out) = (null_mut(), 0);
        match code {
            c::LZMA_OK | c::LZMA_STREAM_END | c::LZMA_BUF_ERROR => Ok(step),
            _ => Err(Failed),
        }
    }
}

impl Drop for Single {
    fn drop(&mut self) {
        // SAFETY: the stream is as `LZMA_STREAM_INIT` or has been begun; its memory is freed after this.
        unsafe { c::lzma_end(&mut self.stream) }
    }
}
