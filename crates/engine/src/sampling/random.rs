//! Random numbers that are a function of what they are for.

/// A generator without state: the same key and counter give the same numbers, in whatever order they are asked for.
///
/// Philox-4x32-10 of "Parallel Random Numbers: As Easy as 1, 2, 3", Salmon et al., 2011.
pub struct Random {
    key: [u32; 2],
    counter: [u32; 4],
}

impl Random {
    /// Returns the generator for one token: of a seed, for one of several completions, at a position of its output.
    pub fn new(seed: u64, completion: u32, position: u64) -> Random {
        Random {
            key: [seed as u32, (seed >> 32) as u32],
            counter: [position as u32, (position >> 32) as u32, completion, 0],
        }
    }

    /// Returns a number from 0 to below 1 with 53 random bits.
    pub fn unit(&self) -> f64 {
        let [a, b, ..] = philox(self.counter, self.key);
        let bits = (u64::from(a) << 32 | u64::from(b)) >> 11;
        bits as f64 / (1u64 << 53) as f64
    }
}

fn philox(mut counter: [u32; 4], mut key: [u32; 2]) -> [u32; 4] {
    for _ in 0..10 {
        let first = u64::from(counter[0]) * 0xD251_1F53;
        let second = u64::from(counter[2]) * 0xCD9E_8D57;
        counter = [
            (second >> 32) as u32 ^ counter[1] ^ key[0],
            second as u32,
            (first >> 32) as u32 ^ counter[3] ^ key[1],
            first as u32,
        ];
        key = [key[0].wrapping_add(0x9E37_79B9), key[1].wrapping_add(0xBB67_AE85)];
    }
    counter
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn matches_the_published_test_vectors() {
        assert_eq!(
            philox([0; 4], [0; 2]),
            [0x6627_e8d5, 0xe169_c58d, 0xbc57_ac4c, 0x9b00_dbd8]
        );
        assert_eq!(
            philox([u32::MAX; 4], [u32::MAX; 2]),
            [0x408f_276d, 0x41c8_3b0e, 0xa20b_c7c6, 0x6d54_51fd]
        );
    }

    #[test]
    fn every_part_of_the_key_matters() {
        let base = Random::new(1, 2, 3).unit();
        assert_eq!(base, Random::new(1, 2, 3).unit());
        for other in [
            Random::new(2, 2, 3),
            Random::new(1, 3, 3),
            Random::new(1, 2, 4),
            Random::new(1 << 40, 2, 3),
        ] {
            assert_ne!(base, other.unit());
        }
    }
}
