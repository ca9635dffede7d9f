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
            *buffer = vec![0; size.next_multiple_of(8)];
            buffer
                .chunks_exact_mut(8)
                .for_each(|eight| eight.copy_from_slice(&next().to_le_bytes()));
        }
        Texture::Table => {
            // digits are put in by themselves: formatting each line took most of the time that the demo takes
            let mut line = *b"2041-03-07T00:00;000;00;ok\n";
            *buffer = vec![0; size.next_multiple_of(line.len())];
            for (minute, here) in buffer.chunks_exact_mut(line.len()).enumerate() {
                let (level, wind) = ((next() % 900) as usize, (next() % 40) as usize);
                let digit = |number: usize| b'0' + (number % 10) as u8;
                let (hour, minute) = (minute / 60 % 24, minute % 60);
                (line[11], line[12]) = (digit(hour / 10), digit(hour));
                (line[14], line[15]) = (digit(minute / 10), digit(minute));
                (line[17], line[18], line[19]) =
                    (digit(level / 100), digit(level / 10), digit(level));
                (line[21], line[22]) = (digit(wind / 10), digit(wind));
                here.copy_from_slice(&line);
            }
        }
    }
    buffer.truncate(size);
}
