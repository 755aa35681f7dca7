//! How the entry of a name is found: by a perfect hash with two levels. A name's first hash chooses a place in a table; there
//! stands a second seed, whose hash is the place of the entry, or that place itself.

use format_error::{Error, Result};

/// The first seed, and the factor of every step.
const FACTOR: u32 = 0x0100_0193;
/// So many seeds are tried for names that share a place; a handful is usual.
const MOST_SEEDS: u32 = 1 << 15;

/// The hash of a name.
pub fn hash(name: &[u8], seed: u32) -> u32 {
    name.iter().fold(seed, |hash, byte| hash.wrapping_mul(FACTOR) ^ u32::from(*byte)) & 0x7fff_ffff
}

/// The place of a name's entry, by what stands in the table.
pub fn place(name: &[u8], table: impl Fn(usize) -> i32, count: usize) -> Option<usize> {
    match table(hash(name, FACTOR) as usize % count) {
        0 => None,
        seed @ 1.. => Some(hash(name, seed as u32) as usize % count),
        place => Some((-1 - i64::from(place)) as usize),
    }
}

/// The table for some names, and which of them has which place; with more places than names where these don't fit otherwise.
///
/// # Errors
/// There is no such table; two names are the same then.
pub fn perfect(names: &[Vec<u8>]) -> Result<(Vec<i32>, Vec<Option<usize>>)> {
    let mut count = names.len();
    while count <= 2 * names.len() + 16 {
        if let Some(found) = with_places(names, count) {
            return Ok(found);
        }
        // Names that end alike have the same place under every seed if the places are a power of two.
        count = (count + 1) | 1;
    }
    Err(Error::Usage("a name stands in the image twice".into()))
}

fn with_places(names: &[Vec<u8>], count: usize) -> Option<(Vec<i32>, Vec<Option<usize>>)> {
    let mut buckets: Vec<Vec<usize>> = vec![Vec::new(); count];
    for (n, name) in names.iter().enumerate() {
        buckets[hash(name, FACTOR) as usize % count].push(n);
    }
    let mut order: Vec<usize> = (0..count).filter(|bucket| !buckets[*bucket].is_empty()).collect();
    // The fullest first: there is most room for them.
    order.sort_by_key(|bucket| (usize::MAX - buckets[*bucket].len(), *bucket));
    let (mut table, mut places) = (vec![0i32; count], vec![None; count]);
    let mut free = 0;
    for bucket in order {
        let inside = &buckets[bucket];
        if let [only] = inside[..] {
            while places[free].is_some() {
                free += 1;
            }
            places[free] = Some(only);
            table[bucket] = -1 - free as i32;
            continue;
        }
        let fits = |seed: &u32| {
            let mut taken: Vec<usize> = inside.iter().map(|n| hash(&names[*n], *seed) as usize % count).collect();
            let are_free = taken.iter().all(|place| places[*place].is_none());
            taken.sort_unstable();
            are_free && taken.windows(2).all(|pair| pair[0] != pair[1])
        };
        let seed = (FACTOR + 1..FACTOR + 1 + MOST_SEEDS).find(fits)?;
        for n in inside {
            places[hash(&names[*n], seed) as usize % count] = Some(*n);
        }
        table[bucket] = seed as i32;
    }
    Some((table, places))
}
