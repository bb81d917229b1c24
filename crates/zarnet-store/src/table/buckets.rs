//! Sorts many short records: first into buckets that fit into the processor's cache, each of which
//! is then sorted by itself. Sorting them as a whole, what takes the time is waiting for memory.

use parquet::errors::Result;

use super::Order;
use crate::record::Short;

/// Records of a bucket, about.
const IN_BUCKET: usize = 1 << 14;
/// No more buckets: their number fits into an octet.
const MOST: usize = 256;
/// So many records are looked at to find where buckets begin, for each of them.
const SAMPLED: usize = 32;

/// The beginning of what orders records. Those of one bucket are put into their full order later.
#[inline(always)]
fn coarse(row: &Short, order: Order) -> u64 {
    match order {
        Order::External => u64::from(row.external) << 16 | u64::from(row.external_port),
        Order::Internal => u64::from(row.internal) << 32 | (row.begun as u64 >> 10 & 0xffff_ffff),
    }
}

/// What orders records, with the place of one behind it.
#[inline(always)]
fn key(row: &Short, order: Order, place: usize) -> u128 {
    let begun = u128::from(row.begun as u64 & 0xffff_ffff_ffff);
    let key = match order {
        Order::External => {
            u128::from(row.external) << 96 | u128::from(row.external_port) << 80 | begun << 32
        }
        Order::Internal => u128::from(row.internal) << 96 | begun << 48,
    };
    key | place as u128
}

/// Hands out records in an order. Times must be of this age: of 48 bits.
pub(super) fn sorted(
    rows: &[Short],
    order: Order,
    mut take: impl FnMut(Short) -> Result<()>,
) -> Result<()> {
    let count = (rows.len() / IN_BUCKET + 1).min(MOST);
    let mut keys = Vec::new();
    if count == 1 {
        return sort(rows, order, &mut keys, &mut take);
    }
    let borders = borders(rows, order, count);
    let bucket = |row: &Short| borders.partition_point(|border| *border <= coarse(row, order));
    let (mut ends, mut of) = (vec![0; count], Vec::with_capacity(rows.len()));
    for row in rows {
        let bucket = bucket(row);
        of.push(bucket as u8);
        ends[bucket] += 1;
    }
    let mut begins = Vec::with_capacity(count);
    let mut sum = 0;
    for end in &mut ends {
        begins.push(sum);
        sum += *end;
        *end = sum;
    }
    let mut next = begins.clone();
    let mut placed = vec![rows[0]; rows.len()];
    for (row, bucket) in rows.iter().zip(of) {
        let place = &mut next[usize::from(bucket)];
        placed[*place] = *row;
        *place += 1;
    }
    for (begin, end) in begins.into_iter().zip(ends) {
        sort(&placed[begin..end], order, &mut keys, &mut take)?;
    }
    Ok(())
}

/// Where buckets begin, but for the first.
fn borders(rows: &[Short], order: Order, count: usize) -> Vec<u64> {
    let step = (rows.len() / (count * SAMPLED)).max(1);
    let mut sample: Vec<u64> = rows.iter().step_by(step).map(|row| coarse(row, order)).collect();
    sample.sort_unstable();
    (1..count).map(|n| sample[n * sample.len() / count]).collect()
}

fn sort(
    rows: &[Short],
    order: Order,
    keys: &mut Vec<u128>,
    take: &mut impl FnMut(Short) -> Result<()>,
) -> Result<()> {
    keys.clear();
    keys.extend(rows.iter().enumerate().map(|(place, row)| key(row, order, place)));
    keys.sort_unstable();
    keys.iter().try_for_each(|key| take(rows[*key as u32 as usize]))
}
