//! Runs of up to 128 small numbers, each in as few bits as most of them need; the few that need more are patched
//! (Zukowski, Héman, Nes, Boncz, "Super-Scalar RAM-CPU Cache Compression", 2006).
//!
//! | bytes | field |
//! | --- | --- |
//! | 1 | the width in bits, 0 to 32; 64 more if there are patches |
//! | … | the low bits: of 128 numbers in four lanes, so that compilers turn unpacking into vector instructions; of fewer one after the other |
//! | 1 | how many patches there are, less 1 |
//! | 1 | how many bits the widest of them has above the width |
//! | … | for each patch, one after the other: 7 bits that say which number it is for, and its bits above the width |
//!
//! Runs shorter than 8 are varints and nothing else. How many numbers there are is known from elsewhere.

use crate::wire::{Broken, Reader, put_varint};

/// The longest run.
pub(in crate::shelf) const LONGEST: usize = 128;
/// Shorter runs are not worth a width.
pub(in crate::shelf) const SHORTEST: usize = 8;
/// Says that there are patches.
const PATCHED: u8 = 64;
const LANES: usize = 4;
/// What tells a place in a run.
const PLACE_BITS: u32 = 7;

/// Appends a run of at most [`LONGEST`] numbers.
pub(in crate::shelf) fn put(out: &mut Vec<u8>, numbers: &[u32]) {
    debug_assert!(numbers.len() <= LONGEST, "a run has at most {LONGEST} numbers");
    if numbers.len() < SHORTEST {
        return numbers.iter().for_each(|&number| put_varint(out, u64::from(number)));
    }
    let (width, patches) = best_width(numbers);
    out.push(width | if patches > 0 { PATCHED } else { 0 });
    let low = if width == 32 { u32::MAX } else { (1 << width) - 1 };
    if numbers.len() == LONGEST {
        put_lanes(out, numbers, width, low);
    } else {
        put_stream(out, numbers.iter().map(|number| u64::from(number & low)), width.into());
    }
    if patches > 0 {
        let patched = || (0_u64..).zip(numbers).filter(|(_, number)| **number > low);
        let widest = patched().map(|(_, number)| number >> width).max().unwrap_or(0);
        let above = u32::BITS - widest.leading_zeros();
        out.extend([patches - 1, u8::try_from(above).expect("at most 32")]);
        let patch = |(place, number): (u64, &u32)| place | u64::from(number >> width) << PLACE_BITS;
        put_stream(out, patched().map(patch), PLACE_BITS + above);
    }
}

/// The width with which the run takes the fewest bytes, and how many numbers it leaves to be patched.
fn best_width(numbers: &[u32]) -> (u8, u8) {
    let mut of_bits = [0_usize; 33];
    for number in numbers {
        of_bits[(u32::BITS - number.leading_zeros()) as usize] += 1;
    }
    let widest = of_bits.iter().rposition(|count| *count > 0).unwrap_or(0);
    let (mut best, mut patches) = ((usize::MAX, 0, 0), 0);
    for width in (0..=widest).rev() {
        let each = PLACE_BITS as usize + widest - width;
        let extra = if patches > 0 { 2 + (patches * each).div_ceil(8) } else { 0 };
        let size = (numbers.len() * width).div_ceil(8) + extra;
        // Equal sizes: rather fewer patches, which come first.
        if size < best.0 {
            best = (size, width, patches);
        }
        patches += of_bits[width];
    }
    let small = |number: usize| u8::try_from(number).expect("at most 32 bits and 128 numbers");
    (small(best.1), small(best.2))
}

/// Number 4r + l has the bits from r · width of lane l; a lane's words of 32 bits stand 16 bytes apart.
fn put_lanes(out: &mut Vec<u8>, numbers: &[u32], width: u8, low: u32) {
    let width = usize::from(width);
    let mut words = [[0_u32; LANES]; 32];
    for (row, four) in numbers.chunks_exact(LANES).enumerate() {
        let (word, shift) = (row * width / 32, row * width % 32);
        for (lane, number) in four.iter().enumerate() {
            let number = number & low;
            if width > 0 {
                words[word][lane] |= number << shift;
            }
            if shift + width > 32 {
                words[word + 1][lane] |= number >> (32 - shift);
            }
        }
    }
    out.extend(words[..width].iter().flatten().flat_map(|word| word.to_le_bytes()));
}

/// Appends numbers of so many bits, one after the other, the lowest bit first.
pub(in crate::shelf) fn put_stream(out: &mut Vec<u8>, numbers: impl Iterator<Item = u64>, width: u32) {
    let (mut held, mut bits) = (0_u128, 0);
    for number in numbers {
        held |= u128::from(number) << bits;
        bits += width;
        while bits >= 8 {
            out.push(held.to_le_bytes()[0]);
            held >>= 8;
            bits -= 8;
        }
    }
    if bits > 0 {
        out.push(held.to_le_bytes()[0]);
    }
}

/// Reads a run of `count` numbers, at most [`LONGEST`], into `numbers`, which is emptied first.
pub(in crate::shelf) fn get(
    from: &mut Reader<'_>,
    count: usize,
    numbers: &mut Vec<u32>,
) -> Result<(), Broken> {
    if count < SHORTEST {
        numbers.clear();
        for _ in 0..count {
            numbers.push(from.varint_u32()?);
        }
        return Ok(());
    }
    let head = from.u8()?;
    let width = head & !PATCHED;
    if width > 32 || count > LONGEST {
        return Err(Broken("the width of packed numbers"));
    }
    let bytes = from.take((count * usize::from(width)).div_ceil(8))?;
    if count == LONGEST {
        numbers.resize(LONGEST, 0);
        let all = numbers.first_chunk_mut().expect("it was made so long");
        UNPACK[usize::from(width)](bytes, all);
    } else {
        numbers.clear();
        get_stream(bytes, count, width.into(), |number| {
            numbers.push(u32::try_from(number).expect("at most 32 bits"));
        });
    }
    if head & PATCHED != 0 {
        let (patches, above) = (usize::from(from.u8()?) + 1, u32::from(from.u8()?));
        if patches > LONGEST || above + u32::from(width) > 32 {
            return Err(Broken("the width of a patch"));
        }
        let each = PLACE_BITS + above;
        let bytes = from.take((patches * each as usize).div_ceil(8))?;
        let mut places_hold = true;
        get_stream(bytes, patches, each, |patch| {
            let place = usize::try_from(patch & ((1 << PLACE_BITS) - 1)).unwrap_or(LONGEST);
            match (numbers.get_mut(place), u32::try_from(patch >> PLACE_BITS << width)) {
                (Some(number), Ok(above)) => *number |= above,
                _ => places_hold = false,
            }
        });
        if !places_hold {
            return Err(Broken("the place of a patch"));
        }
    }
    Ok(())
}

/// Gives numbers of so many bits, at most 39.
fn get_stream(bytes: &[u8], count: usize, width: u32, mut take: impl FnMut(u64)) {
    let low = (1_u64 << width) - 1;
    let mut bit = 0;
    for _ in 0..count {
        take(eight_bytes_at(bytes, bit / 8) >> (bit % 8) & low);
        bit += width as usize;
    }
}

/// Eight bytes as a number, the lowest first; where there are fewer, the highest are 0.
#[inline]
pub(in crate::shelf) fn eight_bytes_at(bytes: &[u8], at: usize) -> u64 {
    let rest = bytes.get(at..).unwrap_or_default();
    rest.first_chunk().map_or_else(
        || rest.iter().rev().fold(0, |whole, byte| whole << 8 | u64::from(*byte)),
        |whole| u64::from_le_bytes(*whole),
    )
}

type Unpack = fn(&[u8], &mut [u32; LONGEST]);

/// Unpacking for each width: with the width known, the loops unroll.
const UNPACK: [Unpack; 33] = [
    lanes::<0>,
    lanes::<1>,
    lanes::<2>,
    lanes::<3>,
    lanes::<4>,
    lanes::<5>,
    lanes::<6>,
    lanes::<7>,
    lanes::<8>,
    lanes::<9>,
    lanes::<10>,
    lanes::<11>,
    lanes::<12>,
    lanes::<13>,
    lanes::<14>,
    lanes::<15>,
    lanes::<16>,
    lanes::<17>,
    lanes::<18>,
    lanes::<19>,
    lanes::<20>,
    lanes::<21>,
    lanes::<22>,
    lanes::<23>,
    lanes::<24>,
    lanes::<25>,
    lanes::<26>,
    lanes::<27>,
    lanes::<28>,
    lanes::<29>,
    lanes::<30>,
    lanes::<31>,
    lanes::<32>,
];

fn lanes<const WIDTH: usize>(bytes: &[u8], numbers: &mut [u32; LONGEST]) {
    if WIDTH == 0 {
        return numbers.fill(0);
    }
    let mut words = [[0_u32; LANES]; WIDTH];
    let (fours, _) = bytes.as_chunks::<{ 4 * LANES }>();
    for (word, four) in words.iter_mut().zip(fours) {
        let (each, _) = four.as_chunks::<4>();
        for (lane, bytes) in word.iter_mut().zip(each) {
            *lane = u32::from_le_bytes(*bytes);
        }
    }
    let low = u32::MAX >> (32 - WIDTH);
    let (rows, _) = numbers.as_chunks_mut::<LANES>();
    for (row, four) in rows.iter_mut().enumerate() {
        let (word, shift) = (row * WIDTH / 32, row * WIDTH % 32);
        for (lane, number) in four.iter_mut().enumerate() {
            *number = words[word][lane] >> shift;
            if shift + WIDTH > 32 {
                *number |= words[word + 1][lane] << (32 - shift);
            }
            *number &= low;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Numbers most of which are below a power of two.
    fn runs() -> impl Strategy<Value = Vec<u32>> {
        let count = prop_oneof![2 => 0_usize..LONGEST, 1 => Just(LONGEST)];
        (count, 0_u32..33, 0_u32..33).prop_flat_map(|(count, bits, more)| {
            let below = |bits: u32| if bits == 32 { u32::MAX } else { (1 << bits) - 1 };
            let number = prop_oneof![9 => 0..=below(bits), 1 => 0..=below(more)];
            prop::collection::vec(number, count)
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 2_000, ..ProptestConfig::default() })]

        #[test]
        fn a_run_comes_back_and_leaves_what_follows(run in runs(), behind: Vec<u8>) {
            let mut bytes = Vec::new();
            put(&mut bytes, &run);
            let plain = 1 + (run.len() * 32).div_ceil(8);
            prop_assert!(bytes.len() <= plain.max(5 * SHORTEST));
            let mut with_more = bytes.clone();
            with_more.extend(&behind);
            let (mut reader, mut read) = (Reader::new(&with_more), vec![7]);
            get(&mut reader, run.len(), &mut read).unwrap();
            prop_assert_eq!(&read, &run);
            prop_assert_eq!(reader.left(), behind.len());
            for cut in 0..bytes.len() {
                prop_assert!(get(&mut Reader::new(&bytes[..cut]), run.len(), &mut read).is_err());
            }
        }

        #[test]
        fn any_bytes_do_no_harm(bytes in prop::collection::vec(any::<u8>(), 0..700), count in 0_usize..200) {
            let mut read = Vec::new();
            if get(&mut Reader::new(&bytes), count, &mut read).is_ok() {
                prop_assert_eq!(read.len(), count);
            }
        }
    }

    #[test]
    fn few_wide_numbers_do_not_widen_the_others() {
        let mut run = vec![3; LONGEST];
        run[17] = 1 << 20;
        run[90] = u32::MAX;
        let mut bytes = Vec::new();
        put(&mut bytes, &run);
        assert_eq!(bytes.len(), 1 + LONGEST * 2 / 8 + 2 + (2_usize * (7 + 30)).div_ceil(8));
    }
}
