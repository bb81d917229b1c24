//! A device's table as it changes: drawn on a terminal, or printed once.

use std::io::{self, Write};
use std::sync::mpsc::{Receiver, TryRecvError};
use std::time::Duration;

use ratatui::crossterm::event::{self, Event, KeyCode, KeyEventKind, KeyModifiers};
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style, Stylize};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Row, Table};
use ratatui::{DefaultTerminal, Frame};
use zarnet_analysis::answer::watch::WatchAnswer;
use zarnet_analysis::watch::{Change, Usage, WatchedRow, Watching};
use zarnet_live::client::ClientError;

use crate::present::View;
use crate::present::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD, count};

/// Writes what is seen at one look as text.
pub fn text(answer: &WatchAnswer<'_>, view: View, out: &mut dyn Write) -> io::Result<()> {
    let w = answer.watching;
    writeln!(out, "{BOLD}{}{BOLD:#}", answer.device)?;
    let mut columns = vec![
        Column::text("PROTOCOL"),
        Column::text("INTERNAL"),
        Column::text("EXTERNAL"),
        Column::text("PEER").expendable(2),
        Column::text("RULE").expendable(1),
        Column::text("STATE"),
        Column::number("IDLE").expendable(3),
        Column::number("EXPIRES"),
    ];
    if w.missing.is_some() {
        columns.push(Column::text("PREDICTION"));
    }
    let shown = if view.rows == 0 { usize::MAX } else { view.rows };
    let rows: Vec<Vec<Cell>> = w
        .rows
        .iter()
        .take(shown)
        .map(|r| {
            let mark = match r.predicted {
                Some(false) => Cell::styled("not predicted", BAD),
                Some(true) | None => Cell::default(),
            };
            let mut cells: Vec<Cell> = fields(r).into_iter().map(Cell::from).collect();
            if w.missing.is_some() {
                cells.push(mark);
            }
            cells
        })
        .collect();
    table::write(out, &columns, &rows, view.width)?;
    if w.rows.len() > shown {
        writeln!(out, "{DIM}{shown} of {} shown; --rows 0 shows all{DIM:#}", w.rows.len())?;
    }
    if !w.usage.is_empty() {
        writeln!(out, "\n{BOLD}Use{BOLD:#}")?;
        let longest = w.usage.iter().map(|u| u.name.len()).max().unwrap_or(0);
        for u in &w.usage {
            let style = match share(u) {
                s if s >= 0.95 => BAD,
                s if s >= 0.8 => CAUTION,
                _ => GOOD,
            };
            let (bar, told) = (bar(u, 24), of(u));
            writeln!(out, "  {:longest$}  {style}{bar}{style:#} {told}", u.name)?;
        }
    }
    let refused: Vec<String> = refusals(w);
    if !refused.is_empty() {
        writeln!(out, "\n{BOLD}Refused{BOLD:#}: {}", refused.join(", "))?;
    }
    if let Some(missing) = &w.missing {
        let (more, less) = (w.unpredicted() as u64, missing.len() as u64);
        let more = count(more, "row is not predicted", "rows are not predicted");
        let less = count(less, "predicted one is missing", "predicted ones are missing");
        writeln!(out, "\n{more}, {less}")?;
    }
    Ok(())
}

/// The fields of a row, in the order of the columns.
fn fields(r: &WatchedRow) -> Vec<String> {
    let seconds =
        |s: Option<u32>| s.map(|s| table::span(Duration::from_secs(s.into()))).unwrap_or_default();
    vec![
        r.protocol.map_or("any".into(), |p| p.to_string()),
        r.internal.to_string(),
        r.external.to_string(),
        r.peer.map(|p| p.to_string()).unwrap_or_default(),
        r.rule.as_deref().map(plain).unwrap_or_default(),
        r.state.as_deref().map(plain).unwrap_or_default(),
        seconds(r.idle),
        if r.fixed { "never".into() } else { seconds(r.expires) },
    ]
}

/// What a device says is text of a stranger.
fn plain(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { '\u{fffd}' } else { c }).take(40).collect()
}

fn share(u: &Usage) -> f64 {
    u.used as f64 / u.usable.max(1) as f64
}

fn of(u: &Usage) -> String {
    let percent = 100.0 * share(u);
    let percent = if u.used > 0 && percent < 0.1 { "<0.1".into() } else { format!("{percent:.1}") };
    format!("{} of {} ({percent} %)", u.used, u.usable)
}

fn bar(u: &Usage, width: usize) -> String {
    let filled = (share(u) * width as f64).ceil().min(width as f64) as usize;
    format!("{}{}", "#".repeat(filled), ".".repeat(width - filled))
}

/// Counters of what was refused that are not zero; of all together, the whole last.
fn refusals(w: &Watching) -> Vec<String> {
    let told = |(name, (all, new)): (&String, &(u64, u64))| {
        let what = plain(name).replace("dropped-", "").replace("-packets", "");
        let what = if what == "packets" { "all".to_owned() } else { what };
        let new = if *new > 0 { format!(" (+{new})") } else { String::new() };
        (*all > 0).then(|| format!("{what} {all}{new}"))
    };
    w.refused.iter().filter_map(told).collect()
}

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
            terminal.draw(|frame| self.draw(frame, &state))?;
            if event::poll(Duration::from_millis(150))?
                && let Event::Key(key) = event::read()?
                && key.kind == KeyEventKind::Press
                && !press(&mut state, key.code, key.modifiers)
            {
                return Ok(());
            }
        }
    }

    fn draw(&self, frame: &mut Frame<'_>, state: &State) {
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
        (Some(error), _) => Line::from(plain(error)).fg(Color::Red),
        (None, told) if told.is_empty() => Line::from("nothing was refused").dim(),
        (None, told) => Line::from(vec![
            Span::from("refused: ").bold(),
            Span::from(told.join(", ")).fg(Color::Yellow),
        ]),
    };
    frame.render_widget(Paragraph::new(line), area);
}

fn draw_rows(frame: &mut Frame<'_>, area: Rect, state: &State) {
    let rows: Vec<&WatchedRow> =
        state.watching.rows.iter().filter(|r| state.shown.has(r)).collect();
    let room = usize::from(area.height.saturating_sub(2));
    let first = state.first.min(rows.len().saturating_sub(room));
    // what there is no room for in 80 columns goes: peers, then rules
    let (with_peer, with_rule) = (area.width >= 120, area.width >= 100);
    let mut heads = vec!["", "PROTOCOL", "INTERNAL", "EXTERNAL"];
    let mut widths = vec![
        Constraint::Length(4),
        Constraint::Length(8),
        Constraint::Length(21),
        Constraint::Length(21),
    ];
    if with_peer {
        heads.push("PEER");
        widths.push(Constraint::Length(21));
    }
    if with_rule {
        heads.push("RULE");
        widths.push(Constraint::Min(10));
    }
    heads.extend(["STATE", "EXPIRES"]);
    widths.extend([Constraint::Length(11), Constraint::Length(9)]);
    let line = |r: &&WatchedRow| {
        let [protocol, internal, external, peer, rule, state, _, expires] =
            <[String; 8]>::try_from(fields(r)).unwrap_or_default();
        let (mark, style) = match (r.change, r.predicted) {
            (Change::Gone, _) => ("gone", Style::new().add_modifier(Modifier::DIM)),
            (_, Some(false)) => ("!", Style::new().fg(Color::Red)),
            (Change::New, _) => ("new", Style::new().fg(Color::Green)),
            (Change::Used, _) => ("*", Style::new()),
            (Change::Same, _) => ("", Style::new()),
        };
        let mut cells = vec![mark.to_owned(), protocol, internal, external];
        if with_peer {
            cells.push(peer);
        }
        if with_rule {
            cells.push(rule);
        }
        cells.extend([state, expires]);
        Row::new(cells).style(style)
    };
    let shown: Vec<Row<'_>> = rows.iter().skip(first).take(room).map(line).collect();
    let header = Row::new(heads).style(Style::new().add_modifier(Modifier::BOLD));
    let [table, foot] = Layout::vertical([Constraint::Min(1), Constraint::Length(1)]).areas(area);
    frame.render_widget(Table::new(shown, widths).header(header).column_spacing(1), table);
    let last = (first + room).min(rows.len());
    let told = match rows.is_empty() {
        true => format!("no rows; shown: {}", state.shown.name()),
        false => {
            format!("{} to {last} of {}; shown: {}", first + 1, rows.len(), state.shown.name())
        }
    };
    frame.render_widget(Paragraph::new(told).dim(), foot);
}

/// The terminal is as it was.
fn restore() {
    ratatui::restore();
}
