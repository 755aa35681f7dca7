//! Huffman codes of limited length, in the canonical form that LZX's decoders rebuild from the lengths alone.

/// Code lengths for symbols that occur so often; none is longer than `max`. Where only one symbol occurs, a second one
/// gets a code too: decoders insist on complete codes.
pub(super) fn lengths(counts: &[u32], max: usize, lengths: &mut [u8]) {
    lengths.fill(0);
    let mut order: Vec<u16> = (0..counts.len() as u16).filter(|s| counts[*s as usize] > 0).collect();
    if order.is_empty() {
        return;
    }
    if order.len() == 1 {
        let other = u16::from(order[0] == 0);
        lengths[order[0] as usize] = 1;
        lengths[other as usize] = 1;
        return;
    }
    order.sort_unstable_by_key(|s| (counts[*s as usize], *s));
    // Two queues: leaves by count, and inner nodes in the order in which they come to be.
    let n = order.len();
    let mut weight: Vec<u64> = order.iter().map(|s| counts[*s as usize].into()).collect();
    let mut parent = vec![0usize; 2 * n - 1];
    let (mut leaf, mut inner) = (0, n);
    for made in n..2 * n - 1 {
        let mut sum = 0;
        for _ in 0..2 {
            let next =
                if leaf < n && (inner >= made || weight[leaf] <= weight[inner]) { &mut leaf } else { &mut inner };
            sum += weight[*next];
            parent[*next] = made;
            *next += 1;
        }
        weight.push(sum);
    }
    let mut depth = vec![0usize; 2 * n - 1];
    let mut of_length = [0usize; 32];
    for node in (0..2 * n - 2).rev() {
        depth[node] = depth[parent[node]] + 1;
        if node < n {
            of_length[depth[node].min(max)] += 1;
        }
    }
    // Cut to the limit, the codes may claim more room than there is: longer ones for some give it back.
    let mut claimed: usize = (1..=max).map(|l| of_length[l] << (max - l)).sum();
    while claimed > 1 << max {
        let Some(from) = (1..max).rev().find(|l| of_length[*l] > 0) else { break };
        of_length[from] -= 1;
        of_length[from + 1] += 2;
        of_length[max] -= 1;
        claimed -= 1;
    }
    let mut symbols = order.iter();
    for length in (1..=max).rev() {
        for symbol in symbols.by_ref().take(of_length[length]) {
            lengths[*symbol as usize] = length as u8;
        }
    }
}

/// The canonical codes of these lengths: shorter before longer, then by symbol.
pub(super) fn codes(lengths: &[u8], codes: &mut [u16]) {
    let mut first = [0u32; 17];
    let mut code = 0;
    let mut count = [0u32; 17];
    lengths.iter().for_each(|l| count[*l as usize] += 1);
    count[0] = 0;
    for length in 1..17 {
        code = (code + count[length - 1]) << 1;
        first[length] = code;
    }
    for (length, code) in lengths.iter().zip(codes) {
        *code = first[*length as usize] as u16;
        if *length > 0 {
            first[*length as usize] += 1;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn codes_are_complete_and_short_enough(counts in proptest::collection::vec(prop_oneof![Just(0u32), 1..9u32, 1..3_000_000u32], 20..656), max in 11usize..17) {
            let mut lens = vec![0; counts.len()];
            lengths(&counts, max, &mut lens);
            let room: usize = lens.iter().filter(|l| **l > 0).map(|l| 1 << (max - *l as usize)).sum();
            let used = counts.iter().filter(|c| **c > 0).count();
            prop_assert!(used == 0 || room == 1 << max);
            prop_assert!(counts.iter().zip(&lens).all(|(c, l)| *c == 0 || (1..=max).contains(&(*l as usize))));
            let mut all = vec![0; counts.len()];
            codes(&lens, &mut all);
            // No code begins with another one.
            let mut seen: Vec<u32> = lens.iter().zip(&all).filter(|(l, _)| **l > 0).map(|(l, c)| u32::from(*c) << (16 - l)).collect();
            seen.sort_unstable();
            prop_assert!(seen.windows(2).all(|w| w[0] < w[1]));
        }
    }
}
