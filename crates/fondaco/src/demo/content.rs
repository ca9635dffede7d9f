//! Contents of demo files: the same bytes for the same name, some that pack well and some that do not.

/// What a file is like inside.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Texture {
    /// Recordings and pictures: nothing to pack.
    Noise,
    /// Tables and logs: packs well.
    Table,
    /// Nothing but a length.
    Hole,
}

/// Writes `size` bytes into `buffer`, which is cleared first.
pub(super) fn fill(buffer: &mut Vec<u8>, seed: &str, size: usize, texture: Texture) {
    buffer.clear();
    // FNV-1a, 64 bits
    let mut state = seed.bytes().fold(0xcbf2_9ce4_8422_2325u64, |hash, byte| {
        (hash ^ u64::from(byte)).wrapping_mul(0x100_0000_01b3)
    }) | 1;
    let mut next = || {
        // xorshift64*: Vigna, "An experimental exploration of Marsaglia's xorshift generators"
        state ^= state >> 12;
        state ^= state << 25;
        state ^= state >> 27;
        state.wrapping_mul(0x2545_f491_4f6c_dd1d)
    };
    match texture {
        Texture::Hole => {}
        Texture::Noise => {
            while buffer.len() < size {
                buffer.extend_from_slice(&next().to_le_bytes());
            }
        }
        Texture::Table => {
            let mut minute = 0;
            while buffer.len() < size {
                let (level, wind) = (next() % 900, next() % 40);
                let line = format!(
                    "2041-03-07T{:02}:{:02};{level:03};{wind:02};ok\n",
                    minute / 60 % 24,
                    minute % 60
                );
                buffer.extend_from_slice(line.as_bytes());
                minute += 1;
            }
        }
    }
    buffer.truncate(size);
}
