//! Pictures on the terminal: blocks where it can, plain letters where it cannot.

use std::io::{self, Write};

use super::{BySize, Curve, LEAST_SHARE, Strip};
use crate::present::capacity::numbers::{rounded, share};
use crate::present::table::{BAD, DIM};

/// Lines of use over time.
const HEIGHT: usize = 8;
/// Columns of a scale.
const SCALE: usize = 8;

/// Eighths of a cell, filled from below.
const EIGHTHS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
/// The same from the left.
const LEFT_EIGHTHS: [char; 9] = [' ', '▏', '▎', '▍', '▌', '▋', '▊', '▉', '█'];

fn columns(width: usize) -> usize {
    width.saturating_sub(SCALE + 2).clamp(20, 96)
}

/// Use over time: filled to the most of each stretch, marked where somebody was refused.
pub fn over_time(out: &mut dyn Write, curve: &Curve, width: usize, ascii: bool) -> io::Result<()> {
    let columns = columns(width);
    let (stretches, top) = (curve.stretches(columns), curve.top());
    let resting = curve.resting(columns);
    let whole = curve.usable.is_some_and(|u| top >= u as f64);
    for row in (0..HEIGHT).rev() {
        let label = match row {
            r if r == HEIGHT - 1 => format!("{top:.0}"),
            r if r == HEIGHT / 2 - 1 => format!("{:.0}", top / 2.0),
            _ => String::new(),
        };
        let cells: String = stretches
            .iter()
            .enumerate()
            .map(|(i, s)| {
                let filled = |most: u32| {
                    let eighths = (f64::from(most) / top * (HEIGHT * 8) as f64).ceil() as usize;
                    eighths.saturating_sub(row * 8).min(8)
                };
                let here = filled(s.most);
                // what rests stands above what is in use
                if here == 0 && resting.get(i).is_some_and(|r| filled(r.most) >= 4) {
                    return if ascii { ':' } else { '░' };
                }
                match (ascii, here, row) {
                    (false, 0, r) if r == HEIGHT - 1 && whole => '┄',
                    (true, 0, r) if r == HEIGHT - 1 && whole => '-',
                    (false, n, _) => EIGHTHS[n],
                    (true, 0..4, _) => ' ',
                    (true, ..) => '#',
                }
            })
            .collect();
        let bar = if ascii { '|' } else { '│' };
        let note = if row == HEIGHT - 1 && whole { " all" } else { "" };
        writeln!(out, "{label:>SCALE$} {bar}{}{DIM}{note}{DIM:#}", cells.trim_end())?;
    }
    if !resting.is_empty() {
        let sign = if ascii { ':' } else { '░' };
        writeln!(out, "{:SCALE$}  {DIM}{sign} rests after its use{DIM:#}", "")?;
    }
    if stretches.iter().any(|s| s.refused > 0) {
        // how many there are of each: a digit, or that there are more
        let mark = |n: u32| match n {
            0 => ' ',
            1..=9 => char::from(b'0' + n as u8),
            _ if ascii => '#',
            _ => '▪',
        };
        let marks: String = stretches.iter().map(|s| mark(s.refused)).collect();
        let more = match (stretches.iter().map(|s| s.refused).max(), ascii) {
            (Some(10..), true) => " # ten or more",
            (Some(10..), false) => " ▪ ten or more",
            _ => "",
        };
        let marks = marks.trim_end();
        writeln!(out, "{:>SCALE$}  {BAD}{marks}{BAD:#}{DIM}{more}{DIM:#}", "refused")?;
    }
    time_axis(out, curve, columns)
}

fn time_axis(out: &mut dyn Write, curve: &Curve, columns: usize) -> io::Result<()> {
    let (left, right) = (rounded(curve.from), rounded(curve.until));
    let middle = rounded(zarnet_core::net::Instant(curve.from.0 / 2 + curve.until.0 / 2));
    let gap = columns.saturating_sub(left.len() + middle.len() + right.len());
    let (a, b) = (gap / 2, gap - gap / 2);
    writeln!(out, "{:SCALE$}  {DIM}{left}{:a$}{middle}{:b$}{right}{DIM:#}", "", "", "")
}

/// Ports in use of several addresses over time, darker for more.
pub fn heat(out: &mut dyn Write, strips: &[Strip], width: usize, ascii: bool) -> io::Result<()> {
    let columns = columns(width).saturating_sub(8);
    let shades: &[char] =
        if ascii { &['.', ':', '+', '*', '#'] } else { &['·', '░', '▒', '▓', '█'] };
    writeln!(out)?;
    for strip in strips {
        let usable = strip.curve.usable.unwrap_or(1).max(1) as f64;
        let shade = |most: u32| {
            let share = f64::from(most) / usable;
            // the darkest is full, and nothing else is
            if share >= 1.0 { shades[4] } else { shades[(share * 4.0).ceil().min(3.0) as usize] }
        };
        let cells: String = strip.curve.stretches(columns).iter().map(|s| shade(s.most)).collect();
        writeln!(out, "{:>16} {cells}", strip.address.to_string())?;
    }
    let [none, low, middle, high, full] = shades else { return Ok(()) };
    writeln!(
        out,
        "{:>16} {DIM}{none} none  {low} to 1/4  {middle} to 1/2  {high} more  {full} all in \
         use{DIM:#}",
        ""
    )
}

/// A bar of so many of the most.
pub fn bar(value: u64, most: u64, width: usize, ascii: bool) -> String {
    let eighths = (value as f64 / most.max(1) as f64 * (width * 8) as f64).ceil() as usize;
    if ascii {
        return "#".repeat(eighths.div_ceil(8));
    }
    let mut text = "█".repeat(eighths / 8);
    if !eighths.is_multiple_of(8) {
        text.push(LEFT_EIGHTHS[eighths % 8]);
    }
    text
}

/// The share refused by size, on a scale of tens.
pub fn by_size(out: &mut dyn Write, sizes: &BySize, width: usize, ascii: bool) -> io::Result<()> {
    let columns = columns(width).min(64);
    let (Some((first, _)), Some((last, _))) = (sizes.points.first(), sizes.points.last()) else {
        return Ok(());
    };
    let decades = -LEAST_SHARE.log10();
    let rows = 10usize;
    let row_of = |p: f64| {
        let depth = -p.max(LEAST_SHARE).log10() / decades;
        ((depth * (rows - 1) as f64).round() as usize).min(rows - 1)
    };
    let column_of = |n: u64| {
        (((n - first) as f64 / (last - first).max(1) as f64) * (columns - 1) as f64).round()
            as usize
    };
    let mut grid = vec![vec![' '; columns]; rows];
    let (line, point, here) = if ascii { ('-', '*', '|') } else { ('┄', '•', '│') };
    grid[row_of(sizes.target)].fill(line);
    for row in &mut grid {
        row[column_of(sizes.usable.clamp(*first, *last))] = here;
    }
    for (n, p) in sizes.points.iter().filter(|p| p.1 >= LEAST_SHARE) {
        grid[row_of(*p)][column_of(*n)] = point;
    }
    writeln!(out, "\n{DIM}Refused as it is computed, by how many there are{DIM:#}")?;
    for (i, row) in grid.iter().enumerate() {
        let label = match i {
            i if i == row_of(sizes.target) => share(sizes.target),
            0 => "100 %".to_owned(),
            i if i == rows - 1 => share(LEAST_SHARE),
            _ => String::new(),
        };
        let note = if i == row_of(sizes.target) { " target" } else { "" };
        let text: String = row.iter().collect();
        let bar = if ascii { '|' } else { '│' };
        writeln!(out, "{label:>SCALE$} {bar}{}{DIM}{note}{DIM:#}", text.trim_end())?;
    }
    // sizes under the marks that they belong to, where there is room
    let mut axis = vec![' '; columns + 8];
    let mut put = |n: u64, text: &str| {
        let at = column_of(n.clamp(*first, *last)).saturating_sub(text.len() / 2).min(columns);
        let room = axis[at.saturating_sub(1)..(at + text.len() + 1).min(columns + 8)]
            .iter()
            .all(|c| *c == ' ');
        if room && at + text.len() <= columns + 8 {
            text.chars().enumerate().for_each(|(i, c)| axis[at + i] = c);
        }
    };
    put(sizes.usable, &format!("{} now", sizes.usable));
    if let Some(needed) = sizes.needed {
        put(needed, &needed.to_string());
    }
    put(*first, &first.to_string());
    put(*last, &last.to_string());
    let axis: String = axis.into_iter().collect();
    writeln!(out, "{:SCALE$}  {DIM}{}{DIM:#}", "", axis.trim_end())
}
