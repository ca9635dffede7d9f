//! Reading one file step by step, and the digest of what was read.

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;

use blake3::Hasher;
use rustix::fs::Advice;

/// Contents are digested in blocks of this length; one of only zeros counts the same whether it is a hole or not.
pub(super) const BLOCK: usize = 64 * 1024;

/// How far a file is read before it is compared with the others of its length: a little at first, since most files
/// that differ do so early and each byte of it is read of every candidate, then ever more, then in equal steps. The last
/// step is the whole file. What is remembered of files stands on this: whoever changes it gives the table of digests another
/// name (`known/mod.rs`).
pub(super) fn end_of_step(step: usize, length: u64) -> u64 {
    const SMALL: [u64; 6] = [12, 128, 8192, 32_768, 256 << 10, 2 << 20];
    const LARGE: u64 = 16 << 20;
    let end = SMALL.get(step).copied();
    let end = end.unwrap_or_else(|| (step - SMALL.len() + 1) as u64 * LARGE);
    end.min(length)
}

/// A digest of contents up to some place. Equal for equal contents, whether zeros are written or holes.
#[derive(Clone, Debug, Default)]
pub(super) struct Digest {
    /// Of whole blocks, once there is one.
    blocks: Option<Box<Blocks>>,
    /// What has been read of the last block.
    block: Vec<u8>,
    /// How many bytes went in.
    pub(super) at: u64,
}

#[derive(Clone, Debug)]
struct Blocks {
    /// Blocks that hold anything but zeros, one behind the other.
    data: Hasher,
    /// The numbers of the other ones.
    zeros: Hasher,
}

impl Default for Blocks {
    fn default() -> Self {
        Self { data: Hasher::new(), zeros: Hasher::new() }
    }
}

impl Blocks {
    /// Adds whole blocks, or the last part of the contents, which end at some place.
    fn add(&mut self, bytes: &[u8], end: u64) {
        let begin = end - bytes.len() as u64;
        let mut from = 0;
        for (number, block) in bytes.chunks(BLOCK).enumerate() {
            if is_zero(block) {
                self.data.update(&bytes[from..number * BLOCK]);
                from = number * BLOCK + block.len();
                self.zeros.update(&(begin / BLOCK as u64 + number as u64).to_le_bytes());
            }
        }
        self.data.update(&bytes[from..]);
    }
}

impl Digest {
    /// Of nothing yet; makes room for contents of a length.
    pub(super) fn with_room(length: u64) -> Self {
        let room = length.min(BLOCK as u64) as usize;
        Self { block: Vec::with_capacity(room), ..Self::default() }
    }

    pub(super) fn add(&mut self, mut bytes: &[u8]) {
        self.at += bytes.len() as u64;
        if !self.block.is_empty() {
            let missing = (BLOCK - self.block.len()).min(bytes.len());
            self.block.extend_from_slice(&bytes[..missing]);
            bytes = &bytes[missing..];
            if self.block.len() < BLOCK {
                return;
            }
            let end = self.at - bytes.len() as u64;
            self.blocks.get_or_insert_default().add(&self.block, end);
            self.block.clear();
        }
        let whole = bytes.len() / BLOCK * BLOCK;
        let end = self.at - (bytes.len() - whole) as u64;
        if whole > 0 {
            self.blocks.get_or_insert_default().add(&bytes[..whole], end);
        }
        self.block.extend_from_slice(&bytes[whole..]);
    }

    /// A block of zeros that was not read.
    fn add_hole(&mut self) {
        let number = self.at / BLOCK as u64;
        self.blocks.get_or_insert_default().zeros.update(&number.to_le_bytes());
        self.at += BLOCK as u64;
    }

    /// The digest of what went in so far.
    pub(super) fn finish(&self) -> [u8; 32] {
        let Some(blocks) = &self.blocks else {
            // as long as there is not one whole block, holes are read like anything else
            return *blake3::hash(&self.block).as_bytes();
        };
        let mut blocks = Blocks::clone(blocks);
        blocks.add(&self.block, self.at);
        let mut whole = Hasher::new();
        whole.update(&self.at.to_le_bytes());
        whole.update(blocks.data.finalize().as_bytes());
        whole.update(blocks.zeros.finalize().as_bytes());
        *whole.finalize().as_bytes()
    }
}

fn is_zero(bytes: &[u8]) -> bool {
    bytes.iter().take(64).all(|byte| *byte == 0)
        && bytes.chunks(512).all(|chunk| chunk.iter().fold(0, |any, byte| any | byte) == 0)
}

/// Reads on from where the digest is, up to `end`. `told` hears how many bytes were read, often, and says whether to go on.
/// Holes are not read. Gives whether it came to the end.
///
/// # Errors
///
/// As `pread(2)`; `UnexpectedEof` if the file is shorter by now.
pub(super) fn read_up_to(
    file: &File,
    end: u64,
    digest: &mut Digest,
    may_have_holes: bool,
    buffer: &mut [u8],
    told: &mut dyn FnMut(u64) -> bool,
) -> io::Result<bool> {
    let block = BLOCK as u64;
    if end - digest.at > block {
        // only advice
        let _ = rustix::fs::fadvise(file, digest.at, None, Advice::Sequential);
    }
    let mut next_data = if may_have_holes { digest.at } else { u64::MAX };
    while digest.at < end {
        let at = digest.at;
        if may_have_holes && at.is_multiple_of(block) && at + block <= end {
            if next_data <= at {
                next_data = match rustix::fs::seek(file, rustix::fs::SeekFrom::Data(at)) {
                    Ok(data) => data,
                    // nothing but a hole up to the end
                    Err(rustix::io::Errno::NXIO) => u64::MAX,
                    Err(_) => at,
                };
            }
            if next_data >= at + block {
                digest.add_hole();
                if !told(0) {
                    return Ok(false);
                }
                continue;
            }
            next_data = 0;
        }
        let most = if may_have_holes { (at / block + 1) * block } else { end };
        let most = (most.min(end) - at).min(buffer.len() as u64) as usize;
        let got = file.read_at(&mut buffer[..most], at)?;
        if got == 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        digest.add(&buffer[..got]);
        if !told(got as u64) {
            return Ok(false);
        }
    }
    Ok(true)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_digest_is_that_of_the_contents_however_they_are_read_and_stored() {
        let directory = tempfile::tempdir().unwrap();
        let path = directory.path().join("a");
        let length = 5 * BLOCK as u64 + 777;
        let file = File::create_new(&path).unwrap();
        file.set_len(length).unwrap();
        file.write_all_at(b"tide", 3 * BLOCK as u64 + 9).unwrap();
        let read = File::open(&path).unwrap();
        let digest = |file: &File, holes: bool, steps: &[u64], buffer: usize| {
            let mut digest = Digest::default();
            for end in steps {
                let mut buffer = vec![0; buffer];
                assert!(
                    read_up_to(file, *end, &mut digest, holes, &mut buffer, &mut |_| true).unwrap()
                );
            }
            digest.finish()
        };
        let sparse = digest(&read, true, &[length], 1 << 20);
        assert_eq!(sparse, digest(&read, false, &[length], 1 << 20));
        assert_eq!(sparse, digest(&read, true, &[64, 4096, 100_000, length], 5000));
        // written zeros are the same
        let written = std::fs::read(&path).unwrap();
        std::fs::write(directory.path().join("b"), &written).unwrap();
        assert_eq!(
            sparse,
            digest(&File::open(directory.path().join("b")).unwrap(), true, &[length], 1 << 16)
        );
        // and anything else is not
        for (at, byte) in [(0, 1), (3 * BLOCK + 9, 0), (length as usize - 1, 7), (2 * BLOCK, 1)] {
            let mut other = written.clone();
            other[at] = byte;
            std::fs::write(directory.path().join("c"), other).unwrap();
            let other = File::open(directory.path().join("c")).unwrap();
            assert_ne!(sparse, digest(&other, true, &[length], 1 << 20));
        }
    }

    #[test]
    fn steps_grow_and_end_with_the_file() {
        for length in [1, 64, 65, 4096, 70_000, 3 << 20, 100 << 20] {
            let ends: Vec<u64> = (0..40).map(|step| end_of_step(step, length)).collect();
            assert!(ends.windows(2).all(|two| two[0] <= two[1] && two[1] <= length));
            assert_eq!(ends.last(), Some(&length));
        }
    }
}
