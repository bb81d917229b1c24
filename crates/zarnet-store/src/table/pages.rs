//! Which rows a file's page index leaves to be looked at.

use std::ops::Range;

use parquet::file::metadata::page_index::RowGroupPageIndex;
use parquet::file::page_index::column_index::ColumnIndexMetaData;

/// Rows of the pages whose index says that they may have what is looked for.
pub(super) fn pages(
    index: &RowGroupPageIndex,
    column: usize,
    rows: usize,
    may_have: impl Fn(&ColumnIndexMetaData, usize) -> bool,
) -> Vec<Range<usize>> {
    let (Some(of), Some(places)) = (index.column_index(column), index.offset_index(column)) else {
        return std::iter::once(0..rows).collect();
    };
    let places = places.page_locations();
    let first = |n: usize| places.get(n).map_or(rows, |p| p.first_row_index.max(0) as usize);
    let mut found: Vec<Range<usize>> = Vec::new();
    for page in (0..places.len()).filter(|n| may_have(of, *n)) {
        let range = first(page)..first(page + 1);
        match found.last_mut() {
            Some(last) if last.end == range.start => last.end = range.end,
            _ => found.push(range),
        }
    }
    found
}

pub(super) fn numbers(index: &ColumnIndexMetaData, page: usize, first: i64, last: i64) -> bool {
    match index {
        ColumnIndexMetaData::INT64(of) => match (of.min_value(page), of.max_value(page)) {
            (Some(min), Some(max)) => *min <= last && *max >= first,
            // a page of none has nothing to find
            _ => false,
        },
        _ => true,
    }
}

pub(super) fn words(index: &ColumnIndexMetaData, page: usize, first: i32, last: i32) -> bool {
    match index {
        ColumnIndexMetaData::INT32(of) => match (of.min_value(page), of.max_value(page)) {
            // whole addresses have no ports, and are had with every port
            _ if index.null_count(page) != Some(0) => true,
            (Some(min), Some(max)) => *min <= last && *max >= first,
            _ => true,
        },
        _ => true,
    }
}

/// Rows that are in both of two lists.
pub(super) fn both(a: &[Range<usize>], b: &[Range<usize>]) -> Vec<Range<usize>> {
    let (mut found, mut of_b) = (Vec::new(), b.iter().peekable());
    for a in a {
        while let Some(b) = of_b.peek() {
            let common = a.start.max(b.start)..a.end.min(b.end);
            if !common.is_empty() {
                found.push(common);
            }
            if b.end > a.end {
                break;
            }
            of_b.next();
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_meet_where_both_are() {
        let (a, b) = ([0..10, 20..30, 40..50], [5..25, 28..29, 45..60]);
        assert_eq!(both(&a, &b), [5..10, 20..25, 28..29, 45..50]);
        assert!(both(&a, &[]).is_empty());
    }
}
