//! Decisions of tests that a seed repeats.

/// A die of any number of sides.
#[derive(Debug)]
pub struct Dice(u64);

impl Dice {
    /// One whose rolls a seed decides.
    #[must_use]
    pub fn new(seed: u64) -> Self {
        // from zero it would roll nothing else
        Self(seed.max(1))
    }

    /// A number below that of its sides.
    pub fn roll(&mut self, sides: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % sides
    }
}
