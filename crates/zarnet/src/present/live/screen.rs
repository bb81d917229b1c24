//! A device's table as it changes, drawn on a terminal.

use std::io;
use std::sync::mpsc::{Receiver, TryRecvError};
use std::time::Duration;

use ratatui::crossterm::event::{self, Event, KeyCode, KeyEventKind, KeyModifiers};
use ratatui::layout::{Alignment, Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style, Stylize};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Cell, Paragraph, Row, Table};
use ratatui::{DefaultTerminal, Frame};
use zarnet_analysis::watch::{Change, Usage, WatchedRow, Watching};
use zarnet_live::client::ClientError;

use super::watch::{bar, fields, of, plain, refusals, share};
use crate::present::escape::{Form, escaped};
use crate::present::table::{self, count};

/// The columns of the table; the first is for marks.
const HEADS: [&str; 9] =
    ["", "PROTOCOL", "INTERNAL", "EXTERNAL", "PEER", "RULE", "STATE", "IDLE", "EXPIRES"];
/// Columns of what is left and gone by: numbers end under one another.
const NUMBERS: [usize; 2] = [7, 8];
/// What goes first where there is no room: how long something was idle, peers, rules.
const EXPENDABLE: [usize; 3] = [7, 4, 5];

/// The view on a terminal.
pub struct Screen {
    /// The device.
    pub device: String,
    /// Where it is.
    pub url: String,
    /// How often it is asked.
    pub every: Duration,
}

/// Which rows are shown.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Shown {
    All,
    Changed,
    Unpredicted,
}

impl Shown {
    fn next(self, with_prediction: bool) -> Self {
        match self {
            Self::All => Self::Changed,
            Self::Changed if with_prediction => Self::Unpredicted,
            Self::Changed | Self::Unpredicted => Self::All,
        }
    }

    fn has(self, row: &WatchedRow) -> bool {
        match self {
            Self::All => true,
            Self::Changed => row.change != Change::Same,
            Self::Unpredicted => row.predicted == Some(false),
        }
    }

    fn name(self) -> &'static str {
        match self {
            Self::All => "all rows",
            Self::Changed => "what changed",
            Self::Unpredicted => "what is not predicted",
        }
    }
}

/// What is on the screen.
struct State {
    watching: Watching,
    error: Option<String>,
    shown: Shown,
    stands: bool,
    first: usize,
    /// The widest that each column was: columns do not move to and fro.
    widths: [u16; 9],
}

impl Screen {
    /// Draws until it is left.
    ///
    /// # Errors
    /// The terminal cannot be drawn on.
    pub fn run<L>(
        &self,
        looks: &Receiver<Result<L, ClientError>>,
        mut take: impl FnMut(&L) -> Watching,
    ) -> io::Result<()> {
        crate::files::on_signal(restore);
        let mut terminal = ratatui::try_init()?;
        let outcome = self.draw_on(&mut terminal, looks, &mut take);
        restore();
        outcome
    }

    fn draw_on<L>(
        &self,
        terminal: &mut DefaultTerminal,
        looks: &Receiver<Result<L, ClientError>>,
        take: &mut impl FnMut(&L) -> Watching,
    ) -> io::Result<()> {
        let mut state = State {
            watching: Watching::default(),
            error: None,
            shown: Shown::All,
            stands: false,
            first: 0,
            widths: [0; 9],
        };
        loop {
            match looks.try_recv() {
                Ok(Ok(look)) if !state.stands => {
                    state.watching = take(&look);
                    state.error = None;
                }
                Ok(Err(error)) => state.error = Some(error.to_string()),
                Ok(Ok(_)) | Err(TryRecvError::Empty | TryRecvError::Disconnected) => {}
            }
            terminal.draw(|frame| self.draw(frame, &mut state))?;
            if event::poll(Duration::from_millis(150))?
                && let Event::Key(key) = event::read()?
                && key.kind == KeyEventKind::Press
                && !press(&mut state, key.code, key.modifiers)
            {
                return Ok(());
            }
        }
    }

    fn draw(&self, frame: &mut Frame<'_>, state: &mut State) {
        let bars = state.watching.usage.len().clamp(1, 6) as u16;
        let [title, usage, refused, rows, keys] = Layout::vertical([
            Constraint::Length(1),
            Constraint::Length(bars),
            Constraint::Length(1),
            Constraint::Min(3),
            Constraint::Length(1),
        ])
        .areas(frame.area());
        self.title(frame, title, state);
        draw_usage(frame, usage, &state.watching);
        draw_refused(frame, refused, state);
        draw_rows(frame, rows, state);
        let help = "q leave  f which rows  p stand still  up/down scroll  home first";
        frame.render_widget(Paragraph::new(help).dim(), keys);
    }

    fn title(&self, frame: &mut Frame<'_>, area: Rect, state: &State) {
        let w = &state.watching;
        let alive = w.rows.iter().filter(|r| r.change != Change::Gone).count();
        let mut spans = vec![
            Span::from(plain(&self.device)).bold(),
            Span::from(format!(" at {}, ", self.url)),
            Span::from(count(alive as u64, "row", "rows")),
            Span::from(format!(", every {}", table::span(self.every))).dim(),
        ];
        if state.stands {
            spans.push(Span::from("  stands still").fg(Color::Yellow));
        }
        if let Some(missing) = &w.missing {
            let told = format!("  {} not predicted, {} missing", w.unpredicted(), missing.len());
            let style = match w.unpredicted() + missing.len() {
                0 => Style::new().fg(Color::Green),
                _ => Style::new().fg(Color::Red),
            };
            spans.push(Span::styled(told, style));
        }
        frame.render_widget(Paragraph::new(Line::from(spans)), area);
    }
}

/// What a key does; whether the view goes on.
fn press(state: &mut State, code: KeyCode, modifiers: KeyModifiers) -> bool {
    match code {
        KeyCode::Char('q') | KeyCode::Esc => return false,
        KeyCode::Char('c') if modifiers.contains(KeyModifiers::CONTROL) => return false,
        KeyCode::Char('f') => {
            state.shown = state.shown.next(state.watching.missing.is_some());
            state.first = 0;
        }
        KeyCode::Char('p') => state.stands = !state.stands,
        KeyCode::Down => state.first += 1,
        KeyCode::PageDown => state.first += 10,
        KeyCode::Up => state.first = state.first.saturating_sub(1),
        KeyCode::PageUp => state.first = state.first.saturating_sub(10),
        KeyCode::Home => state.first = 0,
        _ => {}
    }
    true
}

fn draw_usage(frame: &mut Frame<'_>, area: Rect, w: &Watching) {
    let longest = w.usage.iter().map(|u| u.name.len()).max().unwrap_or(0).min(34);
    let line = |u: &Usage| {
        let colour = match share(u) {
            s if s >= 0.95 => Color::Red,
            s if s >= 0.8 => Color::Yellow,
            _ => Color::Green,
        };
        let name: String = plain(&u.name).chars().take(longest).collect();
        Line::from(vec![
            Span::from(format!("{name:longest$}  ")),
            Span::from(bar(u, 20)).fg(colour),
            Span::from(format!(" {}", of(u))),
        ])
    };
    let lines: Vec<Line<'_>> = match w.usage.is_empty() {
        true => vec![Line::from("no rule hands anything out").dim()],
        false => w.usage.iter().take(area.height.into()).map(line).collect(),
    };
    frame.render_widget(Paragraph::new(lines), area);
}

fn draw_refused(frame: &mut Frame<'_>, area: Rect, state: &State) {
    let line = match (&state.error, refusals(&state.watching)) {
        (Some(error), _) => Line::from(escaped(error, Form::Plain)).fg(Color::Red),
        (None, told) if told.is_empty() => Line::from("nothing was refused").dim(),
        (None, told) => Line::from(vec![
            Span::from("refused: ").bold(),
            Span::from(told.join(", ")).fg(Color::Yellow),
        ]),
    };
    frame.render_widget(Paragraph::new(line), area);
}

fn draw_rows(frame: &mut Frame<'_>, area: Rect, state: &mut State) {
    let rows: Vec<&WatchedRow> =
        state.watching.rows.iter().filter(|r| state.shown.has(r)).collect();
    let room = usize::from(area.height.saturating_sub(2));
    let first = state.first.min(rows.len().saturating_sub(room));
    let lines: Vec<([String; 9], Style)> =
        rows.iter().skip(first).take(room).map(|r| marked(r)).collect();
    for (cells, _) in &lines {
        for (width, cell) in state.widths.iter_mut().zip(cells) {
            *width = (*width).max(cell.chars().count() as u16);
        }
    }
    let gap = gap(area.width);
    let columns = columns(&state.widths, area.width);
    let cell = |i: usize, text: String| {
        let end = if NUMBERS.contains(&i) { Alignment::Right } else { Alignment::Left };
        Cell::from(Line::from(text).alignment(end))
    };
    let header = Row::new(columns.iter().map(|&(i, _)| cell(i, HEADS[i].to_owned()))).bold();
    let shown = lines.into_iter().map(|(cells, style)| {
        let cells = columns.iter().map(|&(i, _)| cell(i, cells[i].clone()));
        Row::new(cells.collect::<Vec<_>>()).style(style)
    });
    let widths = columns.iter().map(|&(_, width)| Constraint::Length(width));
    let [table, foot] = Layout::vertical([Constraint::Min(1), Constraint::Length(1)]).areas(area);
    frame.render_widget(Table::new(shown, widths).header(header).column_spacing(gap), table);
    let last = (first + room).min(rows.len());
    let told = match rows.is_empty() {
        true => format!("no rows; shown: {}", state.shown.name()),
        false => {
            format!("{} to {last} of {}; shown: {}", first + 1, rows.len(), state.shown.name())
        }
    };
    frame.render_widget(Paragraph::new(told).dim(), foot);
}

/// A row with its mark, and how it looks.
fn marked(row: &WatchedRow) -> ([String; 9], Style) {
    let (mark, style) = match (row.change, row.predicted) {
        (Change::Gone, _) => ("gone", Style::new().add_modifier(Modifier::DIM)),
        (_, Some(false)) => ("!", Style::new().fg(Color::Red)),
        (Change::New, _) => ("new", Style::new().fg(Color::Green)),
        (Change::Used, _) => ("*", Style::new()),
        (Change::Same, _) => ("", Style::new()),
    };
    let mut cells = <[String; 9]>::default();
    cells[0] = mark.to_owned();
    for (cell, field) in cells[1..].iter_mut().zip(fields(row)) {
        *cell = field;
    }
    (cells, style)
}

/// Between columns.
fn gap(room: u16) -> u16 {
    if room < 100 { 1 } else { 2 }
}

/// The columns that there is room for, with their widths. One in which nothing ever stood is left
/// out, but for that of marks, so that nothing moves when the first one comes.
fn columns(widest: &[u16; 9], room: u16) -> Vec<(usize, u16)> {
    let width = |i: usize| match (i, widest[i]) {
        (0, _) => 4,
        (_, 0) => 0,
        (i, width) => width.max(HEADS[i].len() as u16),
    };
    let mut columns: Vec<(usize, u16)> =
        (0..HEADS.len()).map(|i| (i, width(i))).filter(|c| c.1 > 0).collect();
    let gap = gap(room);
    for goes in EXPENDABLE {
        let taken: u16 = columns.iter().map(|c| c.1 + gap).sum();
        if taken > room + gap {
            columns.retain(|c| c.0 != goes);
        }
    }
    columns
}

/// The terminal is as it was.
fn restore() {
    ratatui::restore();
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The widest fields of IPv4: 80 columns have no room for rules, and cut nothing.
    #[test]
    fn what_there_is_no_room_for_is_left_out_whole() {
        let widest = [0, 3, 21, 21, 0, 16, 11, 10, 10];
        let heads = |room| -> Vec<&str> {
            let columns = columns(&widest, room);
            assert!(columns.iter().map(|c| c.1 + gap(room)).sum::<u16>() <= room + gap(room));
            columns.into_iter().map(|(i, _)| HEADS[i]).collect()
        };
        assert_eq!(heads(80), ["", "PROTOCOL", "INTERNAL", "EXTERNAL", "STATE", "EXPIRES"]);
        let wide = ["", "PROTOCOL", "INTERNAL", "EXTERNAL", "RULE", "STATE", "IDLE", "EXPIRES"];
        assert_eq!(heads(140), wide);
    }
}
