//! A table changed by itself: of a file with very many, the others are not read.

use std::ops::Range;

use toml_edit::{DocumentMut, Item, Table, TableLike};

/// So many lines are taken for the header of the next table before it is given up.
const HEADERS: usize = 8;

/// Does something to the table of a text whose header begins at an octet. `None`: nothing was done,
/// for it has no header, or is too odd to be told from what follows it.
pub(super) fn on_table(
    text: &mut String,
    header: usize,
    change: impl FnOnce(&mut dyn TableLike) -> Option<()>,
) -> Option<()> {
    let (lines, mut document) = table_at(text, header)?;
    change(only(document.as_table_mut())?)?;
    text.replace_range(lines, &document.to_string());
    Some(())
}

/// The lines of the table whose header begins at an octet, and what they hold.
pub(super) fn table_at(text: &str, header: usize) -> Option<(Range<usize>, DocumentMut)> {
    text.get(header..)?.starts_with("[[").then_some(())?;
    let start = text[..header].rfind('\n').map_or(0, |end| end + 1);
    text[start..header].trim().is_empty().then_some(())?;
    let (end, document) = first_table(&text[start..])?;
    Some((start..start + end, document))
}

/// The table that a text begins with, and where it ends. What looks like the next header may stand
/// in a list or a text of several lines: up to there it is no document. `None`: it does not end
/// soon.
fn first_table(text: &str) -> Option<(usize, DocumentMut)> {
    let lines = memchr::memchr_iter(b'\n', text.as_bytes()).map(|end| end + 1);
    let is_header = |start: &usize| text[*start..].trim_start_matches([' ', '\t']).starts_with('[');
    let headers = lines.filter(is_header);
    let mut ends = headers.chain([text.len()]).take(HEADERS);
    ends.find_map(|end| Some((end, text[..end].parse().ok()?)))
}

/// The only table of a document, in the lists that its header names.
pub(super) fn only(table: &mut Table) -> Option<&mut dyn TableLike> {
    let one = table.len() == 1;
    match table.iter_mut().next().filter(|_| one)?.1 {
        Item::Table(table) if table.is_implicit() => only(table),
        Item::ArrayOfTables(tables) => tables.get_mut(0).map(|table| table as &mut dyn TableLike),
        Item::Table(_) | Item::Value(_) | Item::None => None,
    }
}

#[cfg(test)]
mod tests {
    use super::super::values::set;
    use super::*;

    /// Headers that are none, comments before and behind, and tables of one name on two devices.
    const ODD: &str = r##"# of two edges
[[device]]
name = "one"
behaviour = "bcp"

  # the first
  [[device.rule]]
  name = "a"   # not b
  source = [
    "10.0.0.1",
    # [[device.rule]]
  ]
  note = """
[[device.rule]]
[device]
"""
  # the second
[[device.rule]]
name = "b"
  pairs = [
  [ 1 ],
[ 2, 3 ] ]

[[device]]
name = "two"
  [[device.rule]]
  name = "a"
  [[device.acl]]
  name = "c"
  [[device.acl.entries]]
  drop = "any"
# the end"##;

    fn touched(table: &mut dyn TableLike) -> Option<()> {
        set(table, "note", "two\nlines".into())?;
        set(table, "limit", 5.into())
    }

    /// The tables of a document that are of a list and have none in them, with their places in the
    /// text.
    fn listed<'a>(table: &'a mut Table, found: &mut Vec<(Option<isize>, &'a mut Table)>) {
        for (_, item) in table.iter_mut() {
            match item {
                Item::ArrayOfTables(tables) => {
                    for table in tables.iter_mut() {
                        let has_tables = table.iter().any(|(_, item)| item.is_array_of_tables());
                        match has_tables {
                            true => listed(table, found),
                            false => found.push((table.position(), table)),
                        }
                    }
                }
                Item::Table(table) => listed(table, found),
                Item::Value(_) | Item::None => {}
            }
        }
    }

    /// A text with the `n`-th of these changed; `None` where there are not so many.
    fn changed_in_its_file(text: &str, n: usize) -> Option<String> {
        let (mut document, mut tables) = (text.parse::<DocumentMut>().unwrap(), Vec::new());
        listed(document.as_table_mut(), &mut tables);
        tables.sort_by_key(|table| table.0);
        touched(tables.get_mut(n)?.1)?;
        Some(document.to_string())
    }

    #[test]
    fn a_table_by_itself_is_changed_as_in_its_file() {
        let shown = include_str!("../../../tests/samples/valid/every-form.toml");
        for (text, count) in [(ODD, 4), (shown, 13)] {
            let changed: Vec<String> = (0..).map_while(|n| changed_in_its_file(text, n)).collect();
            // of what looks like a header, some is none, and some has tables in it
            let by_itself = |(header, _)| {
                let mut text = text.to_owned();
                on_table(&mut text, header, touched).map(|()| text)
            };
            let alone: Vec<String> = text
                .match_indices("[[")
                .filter_map(by_itself)
                .filter(|text| changed.contains(text))
                .collect();
            assert_eq!(alone, changed);
            assert_eq!(changed.len(), count);
        }
    }

    #[test]
    fn what_has_no_header_is_left_as_it_is() {
        for (text, at) in [("[a]\nb = 1\n", 0), ("a = [[1]]\n", 4), ("# [[a]]\n", 2), ("", 9)] {
            let mut alone = text.to_owned();
            assert_eq!(on_table(&mut alone, at, touched), None);
            assert_eq!(alone, text);
        }
        let mut broken = "[[a]]\nb = [\n[[c]]\n".to_owned();
        assert_eq!(on_table(&mut broken, 0, touched), None);
    }
}
