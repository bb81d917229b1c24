//! IPv6 addresses as nearly every list writes them, read many octets at a time: groups of
//! hexadecimal digits (RFC 4291 §2.2, forms 1 and 2). Anything else is left to the careful reader.

use wide::i8x16;

/// So many octets of a line are looked at: no address is longer than 39.
pub(super) const WIDTH: usize = 48;

/// Bits for the octets of a field: colons, commas, and what is neither these nor a hexadecimal
/// digit.
struct Marks {
    colons: u64,
    commas: u64,
    others: u64,
}

impl Marks {
    #[inline(always)]
    fn of(text: &[u8; WIDTH]) -> Self {
        let (mut colons, mut commas, mut digits) = (0u64, 0u64, 0u64);
        let mut i = 0;
        while i < WIDTH {
            let octets: [u8; 16] = text[i..i + 16].try_into().unwrap_or_default();
            let octets = i8x16::new(octets.map(u8::cast_signed));
            let is = |mark: u8| octets.simd_eq(i8x16::splat(mark as i8));
            let within = |octets: i8x16, low: u8, high: u8| {
                octets.simd_gt(i8x16::splat(low as i8 - 1))
                    & octets.simd_lt(i8x16::splat(high as i8 + 1))
            };
            // of letters, small and large ones are one bit apart
            let letters = within(octets | i8x16::splat(0x20), b'a', b'f');
            let decimal = within(octets, b'0', b'9');
            colons |= u64::from(is(b':').to_bitmask()) << i;
            commas |= u64::from(is(b',').to_bitmask()) << i;
            digits |= u64::from((letters | decimal).to_bitmask()) << i;
            i += 16;
        }
        Self { colons, commas, others: !(colons | commas | digits) }
    }
}

/// The group that ends before a place, of at most four digits; its digits are known to be some.
#[inline(always)]
fn group(text: &[u8; WIDTH], from: usize, length: usize) -> u16 {
    let digits: [u8; 4] = text[from..].first_chunk().copied().unwrap_or_default();
    // the last digit highest, nothing below the first
    let digits = u32::from_le_bytes(digits) << (32 - 8 * length);
    let values = (digits & 0x0F0F_0F0F) + 9 * (digits >> 6 & 0x0101_0101);
    let pairs = (values << 4 | values >> 8) & 0x00FF_00FF;
    (pairs << 8 | pairs >> 16) as u16
}

/// The address that `text` begins with, with a comma behind it, and where the next field begins.
#[inline(always)]
pub(super) fn address(text: &[u8; WIDTH]) -> Option<(u128, usize)> {
    let marks = Marks::of(text);
    let end = marks.commas.trailing_zeros() as usize;
    if end >= WIDTH - 4 || marks.others & ((1 << end) - 1) != 0 {
        return None;
    }
    let mut ends = marks.colons & ((1 << end) - 1) | 1 << end;
    // groups before the gap, and those behind it
    let (mut address, mut count, mut gap) = (0u128, 0, None);
    let mut from = 0;
    while ends != 0 {
        let at = ends.trailing_zeros() as usize;
        ends &= ends - 1;
        let length = at - from;
        if length > 4 {
            return None;
        }
        if length > 0 {
            address = address << 16 | u128::from(group(text, from, length));
            count += 1;
        } else if from > 0 && at < end && gap.is_none() {
            // between two colons
            gap = Some(count);
        } else if !(from == 0 && text[1] == b':' || at == end && gap == Some(count)) {
            return None;
        }
        from = at + 1;
    }
    match gap {
        None if count == 8 => Some((address, end + 1)),
        Some(before) if count < 8 => {
            let behind = 16 * (count - before);
            let low = address & !(u128::MAX << behind);
            // what is shifted out as a whole is nothing
            let high = (address >> behind).checked_shl(128 - 16 * before).unwrap_or(0);
            Some((high | low, end + 1))
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use std::net::Ipv6Addr;

    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// What is read is what the library reads; of the usual spellings all are.
        #[test]
        fn addresses_agree_with_the_library(
            text in "[0-9a-fA-F:]{0,24}|([0-9a-f]{1,4}:){0,7}(:[0-9a-f]{1,4}){0,7}|[!-~]{0,9}",
            address: Ipv6Addr,
            groups: [u8; 8],
        ) {
            let sparse = Ipv6Addr::from(groups.map(|g| u16::from(g % 3) * 0x0A5));
            let field = |text: &str| {
                let mut field = [b'7'; WIDTH];
                field[..text.len()].copy_from_slice(text.as_bytes());
                field[text.len()] = b',';
                field
            };
            for address in [address, sparse] {
                let text = address.to_string();
                prop_assert_eq!(
                    super::address(&field(&text)),
                    (!text.contains('.')).then_some((address.to_bits(), text.len() + 1))
                );
            }
            let text = text.split(',').next().filter(|t| t.len() < 40).unwrap_or_default();
            let read: Option<u128> = text.parse::<Ipv6Addr>().ok().map(Ipv6Addr::to_bits);
            let wanted = read.filter(|_| !text.contains('.')).map(|bits| (bits, text.len() + 1));
            prop_assert_eq!(super::address(&field(text)), wanted);
        }
    }
}
