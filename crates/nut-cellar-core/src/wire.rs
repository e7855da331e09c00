//! Numbers and byte strings as they stand in pieces: little-endian, or in groups of seven bits (LEB128).
//!
//! Reading never goes past the end and never trusts a length: every call can answer [`Broken`].

/// Bytes that can't be read as what they should be; says what that was.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Broken(pub &'static str);

/// Appends `value` in groups of seven bits, lowest first.
pub(crate) fn put_varint(out: &mut Vec<u8>, mut value: u64) {
    while value >= 0x80 {
        out.push(value.to_le_bytes()[0] | 0x80);
        value >>= 7;
    }
    out.push(value.to_le_bytes()[0]);
}

/// Appends a signed number so that small magnitudes stay short.
pub(crate) fn put_signed(out: &mut Vec<u8>, value: i64) {
    put_varint(out, (value.cast_unsigned() << 1) ^ (value >> 63).cast_unsigned());
}

/// Appends the length of `bytes`, then `bytes`.
pub(crate) fn put_bytes(out: &mut Vec<u8>, bytes: &[u8]) {
    put_varint(out, bytes.len() as u64);
    out.extend_from_slice(bytes);
}

/// How many bytes [`put_bytes`] appends for so many.
pub(crate) fn bytes_size(length: usize) -> usize {
    let bits = (usize::BITS - length.leading_zeros()).max(1);
    bits.div_ceil(7) as usize + length
}

/// Reads forward through bytes that may be anything.
#[derive(Debug, Clone)]
pub(crate) struct Reader<'a> {
    rest: &'a [u8],
}

impl<'a> Reader<'a> {
    pub fn new(bytes: &'a [u8]) -> Self {
        Self { rest: bytes }
    }

    pub fn is_empty(&self) -> bool {
        self.rest.is_empty()
    }

    pub fn left(&self) -> usize {
        self.rest.len()
    }

    #[inline]
    pub fn varint(&mut self) -> Result<u64, Broken> {
        // Most numbers are small.
        let (value, rest) = match self.rest {
            [a @ ..0x80, rest @ ..] => (u64::from(*a), rest),
            [a, b @ ..0x80, rest @ ..] => (u64::from(a & 0x7f) | u64::from(*b) << 7, rest),
            [a, b, c @ ..0x80, rest @ ..] => {
                (u64::from(a & 0x7f) | u64::from(b & 0x7f) << 7 | u64::from(*c) << 14, rest)
            }
            _ => return self.long_varint(),
        };
        self.rest = rest;
        Ok(value)
    }

    fn long_varint(&mut self) -> Result<u64, Broken> {
        let mut value = 0_u64;
        for (i, &byte) in self.rest.iter().take(10).enumerate() {
            let part = u64::from(byte & 0x7f);
            if i == 9 && part > 1 {
                break;
            }
            value |= part << (7 * i);
            if byte < 0x80 {
                self.rest = &self.rest[i + 1..];
                return Ok(value);
            }
        }
        Err(Broken("a number"))
    }

    pub fn varint_u32(&mut self) -> Result<u32, Broken> {
        u32::try_from(self.varint()?).map_err(|_| Broken("a number of 32 bits"))
    }

    /// A number that counts or measures something that is in memory.
    pub fn size(&mut self) -> Result<usize, Broken> {
        usize::try_from(self.varint()?).map_err(|_| Broken("a size"))
    }

    pub fn signed(&mut self) -> Result<i64, Broken> {
        let value = self.varint()?;
        Ok((value >> 1).cast_signed() ^ -(value & 1).cast_signed())
    }

    pub fn take(&mut self, length: usize) -> Result<&'a [u8], Broken> {
        let (taken, rest) = self.rest.split_at_checked(length).ok_or(Broken("a run of bytes"))?;
        self.rest = rest;
        Ok(taken)
    }

    pub fn bytes(&mut self) -> Result<&'a [u8], Broken> {
        let length = self.size()?;
        self.take(length)
    }

    pub fn array<const N: usize>(&mut self) -> Result<[u8; N], Broken> {
        let (taken, rest) = self.rest.split_first_chunk::<N>().ok_or(Broken("a field of fixed size"))?;
        self.rest = rest;
        Ok(*taken)
    }

    /// The next bytes, if there are so many; they are not taken.
    pub fn ahead<const N: usize>(&self) -> Option<&'a [u8; N]> {
        self.rest.first_chunk()
    }

    pub fn u8(&mut self) -> Result<u8, Broken> {
        Ok(self.array::<1>()?[0])
    }

    pub fn u32(&mut self) -> Result<u32, Broken> {
        Ok(u32::from_le_bytes(self.array()?))
    }

    pub fn u64(&mut self) -> Result<u64, Broken> {
        Ok(u64::from_le_bytes(self.array()?))
    }
}

/// The first and the last bytes of at most sixteen, which may overlap: eight each, or four, or all three; which tells them from
/// others of the same length without a look at each byte.
#[inline]
pub(crate) fn ends(bytes: &[u8]) -> [u64; 2] {
    let eight = |from: Option<&[u8; 8]>| from.map_or(0, |bytes| u64::from_le_bytes(*bytes));
    let four = |from: Option<&[u8; 4]>| from.map_or(0, |bytes| u64::from(u32::from_le_bytes(*bytes)));
    match bytes.len() {
        8.. => [eight(bytes.first_chunk()), eight(bytes.last_chunk())],
        4.. => [four(bytes.first_chunk()), four(bytes.last_chunk())],
        _ => [bytes.iter().rev().fold(0, |number, byte| number << 8 | u64::from(*byte)), 0],
    }
}

/// Up to fifteen bytes and how many they are, in two numbers: others for other bytes. None of more.
#[inline]
pub(crate) fn short(bytes: &[u8]) -> Option<[u64; 2]> {
    let [first, last] = ends(bytes);
    // Of more than eight bytes the last eight overlap the first; shifted, they follow them.
    let last = match bytes.len() {
        16.. => return None,
        length @ 9.. => last >> (8 * (2 * 8 - length)),
        8 => 0,
        _ => last,
    };
    Some([first, last | (bytes.len() as u64) << 56])
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn numbers_come_back(value: u64, signed: i64, bytes: Vec<u8>) {
            let mut out = Vec::new();
            put_varint(&mut out, value);
            put_signed(&mut out, signed);
            put_bytes(&mut out, &bytes);
            let mut reader = Reader::new(&out);
            prop_assert_eq!(reader.varint(), Ok(value));
            prop_assert_eq!(reader.signed(), Ok(signed));
            prop_assert_eq!(reader.bytes(), Ok(&bytes[..]));
            prop_assert!(reader.is_empty());
        }

        #[test]
        fn any_bytes_can_be_read_without_harm(bytes: Vec<u8>) {
            let mut reader = Reader::new(&bytes);
            while reader.varint().is_ok() {}
            let mut reader = Reader::new(&bytes);
            while reader.bytes().is_ok_and(|taken| !taken.is_empty()) {}
        }
    }

    #[test]
    fn a_number_over_64_bits_is_refused() {
        assert!(Reader::new(&[0xff; 10]).varint().is_err());
        assert!(Reader::new(&[0x80; 3]).varint().is_err());
    }
}
