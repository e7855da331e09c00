//! Files mapped into memory: the one place with `unsafe` code.
//!
//! A map is sound as long as nobody changes the file's bytes or makes it shorter while it is mapped. Nobody of us does:
//! a piece is written under a name that was never used, is complete before any manifest names it, and is never changed
//! afterwards; it goes by its name being removed, which leaves a mapped file whole until the last map of it is dropped.
//! Somebody else who writes into the folder of a cellar can break that, as they can break any open file of any program;
//! for folders that are not one's own there is [`Folder::unmapped`](super::Folder::unmapped).

use bytes::Bytes;
use memmap2::Mmap;
use std::fs::File;
use std::io;

/// The bytes of a file, read by the system when they are touched.
#[expect(
    unsafe_code,
    reason = "mapping a file is unsafe whoever does it; see above for why it is sound here"
)]
pub(super) fn map(file: &File) -> io::Result<Bytes> {
    if file.metadata()?.len() == 0 {
        return Ok(Bytes::new());
    }
    // SAFETY: pieces are never changed once they can be opened; see the beginning of this file.
    let map = unsafe { Mmap::map(file) }?;
    // A search touches a few pages here and there; reading ahead would read what nobody asked for.
    #[cfg(unix)]
    map.advise(memmap2::Advice::Random)?;
    Ok(Bytes::from_owner(map))
}
