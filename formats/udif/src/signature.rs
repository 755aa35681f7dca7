//! Where a signature stands in an image: behind everything else, before the trailer, which says where.
//!
//! What is signed are all bytes before it, and the trailer as it is without the signature's length.

use crate::structs::Trailer;
use crate::{Error, Result};
use read_at::ReadAt;
use std::io::{Seek, SeekFrom, Write};
use zerocopy::byteorder::big_endian::U64;
use zerocopy::{FromBytes, IntoBytes};

/// The longest signature that is read.
const LONGEST: u64 = 1 << 20;

/// An image, as far as its signature goes.
#[derive(Debug, Clone)]
pub struct SignedParts {
    trailer: Trailer,
    /// How many bytes are signed: where a signature begins.
    pub limit: u64,
    /// Bytes of the signature that it has.
    length: u64,
}

impl SignedParts {
    /// Finds them; nothing for what is no image.
    ///
    /// # Errors
    /// [`Error::Format`] for a signature that lies elsewhere than before the trailer.
    pub fn find(source: &impl ReadAt) -> Result<Option<Self>> {
        let Some(at) = source.length()?.checked_sub(512) else { return Ok(None) };
        let mut bytes = [0; 512];
        source.read_exact_at(&mut bytes, at)?;
        let trailer = Trailer::read_from_bytes(&bytes).expect("as many bytes as it has");
        if trailer.signature != *b"koly" {
            return Ok(None);
        }
        let (from, length) = (trailer.signature_offset.get(), trailer.signature_length.get());
        let end_of_list = trailer.list_offset.get().checked_add(trailer.list_length.get());
        if length == 0 {
            return Ok(Some(Self { trailer, limit: at, length: 0 }));
        }
        if from.checked_add(length) != Some(at) || end_of_list.is_none_or(|end| end > from) || length > LONGEST {
            return Err(Error::format(at + 296, format!("a signature of {length} bytes at {from}")));
        }
        Ok(Some(Self { trailer, limit: from, length }))
    }

    /// The bytes of the signature.
    ///
    /// # Errors
    /// The medium's.
    pub fn signature(&self, source: &impl ReadAt) -> Result<Option<Vec<u8>>> {
        if self.length == 0 {
            return Ok(None);
        }
        let mut bytes = vec![0; self.length as usize];
        source.read_exact_at(&mut bytes, self.limit)?;
        Ok(Some(bytes))
    }

    /// The trailer as it is signed.
    pub fn trailer(&self) -> Vec<u8> {
        self.with(0)
    }

    fn with(&self, length: u64) -> Vec<u8> {
        let mut trailer = self.trailer;
        trailer.signature_offset = U64::new(self.limit);
        trailer.signature_length = U64::new(length);
        trailer.as_bytes().to_vec()
    }

    /// Puts a signature in the place of the one that is there.
    ///
    /// # Errors
    /// The medium's.
    pub fn put(&self, file: &mut std::fs::File, signature: &[u8]) -> Result<()> {
        file.set_len(self.limit)?;
        file.seek(SeekFrom::Start(self.limit))?;
        file.write_all(signature)?;
        file.write_all(&self.with(signature.len() as u64))?;
        Ok(())
    }
}
