//! Pictures of use in a file: what is drawn can be told apart without colour, by shape, dashes and
//! words, and the colours are told apart by the colour-blind.

use plotters::coord::Shift;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use zarnet_analysis::answer::capacity::CapacityAnswer;
use zarnet_analysis::capacity::Resource;
use zarnet_core::device::Span;
use zarnet_core::net::Instant;

use super::{BySize, Curve, LEAST_SHARE, Strip, strips};

use crate::present::capacity::numbers::{rounded, share};
use crate::present::escape::{Form, escaped};

/// Form of a picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Lines, for a page or for print.
    Svg,
    /// A picture of pixels; only in builds with the feature `png`.
    #[cfg(feature = "png")]
    Png,
}

const SIZE: (u32, u32) = (1280, 800);
#[cfg(feature = "png")]
const FONT: &[u8] = include_bytes!("../../../../assets/DejaVuSans.ttf");
const FAMILY: &str = "DejaVu Sans";
/// Blue and vermilion, which everybody tells apart, by hue or by lightness.
const USE: RGBColor = RGBColor(0, 114, 178);
const REFUSED: RGBColor = RGBColor(213, 94, 0);
const INK: RGBColor = RGBColor(30, 30, 30);
const FAINT: RGBColor = RGBColor(120, 120, 120);

type Area<'a> = DrawingArea<SVGBackend<'a>, Shift>;
type Done = Result<(), Box<dyn std::error::Error>>;

/// A picture of an analysis.
///
/// # Errors
/// What the drawing library says, in its words.
pub fn drawn(answer: CapacityAnswer<'_>, kind: Kind) -> Result<Vec<u8>, String> {
    let mut svg = String::new();
    {
        let root = SVGBackend::with_string(&mut svg, SIZE).into_drawing_area();
        page(answer, &root).and_then(|()| Ok(root.present()?)).map_err(|e| e.to_string())?;
    }
    let svg = escaped(&svg, Form::Plain);
    match kind {
        Kind::Svg => Ok(svg.into_bytes()),
        #[cfg(feature = "png")]
        Kind::Png => pixels(&svg),
    }
}

#[cfg(feature = "png")]
fn pixels(svg: &str) -> Result<Vec<u8>, String> {
    use resvg::{tiny_skia, usvg};
    let mut options = usvg::Options::default();
    options.fontdb_mut().load_font_data(FONT.to_vec());
    options.font_family = FAMILY.to_owned();
    let tree = usvg::Tree::from_str(svg, &options).map_err(|e| e.to_string())?;
    let mut dots = tiny_skia::Pixmap::new(SIZE.0, SIZE.1).ok_or("no room for the picture")?;
    dots.fill(tiny_skia::Color::WHITE);
    resvg::render(&tree, tiny_skia::Transform::identity(), &mut dots.as_mut());
    dots.encode_png().map_err(|e| e.to_string())
}

fn font(size: u32) -> TextStyle<'static> {
    (FAMILY, size).into_font().color(&INK)
}

fn faint(size: u32) -> TextStyle<'static> {
    (FAMILY, size).into_font().color(&FAINT)
}

fn anchored(style: TextStyle<'static>, h: HPos, v: VPos) -> TextStyle<'static> {
    style.pos(Pos::new(h, v))
}

fn page(answer: CapacityAnswer<'_>, root: &Area<'_>) -> Done {
    root.fill(&WHITE)?;
    let analysis = answer.analysis;
    root.draw_text(&answer.loaded.plan.title, &font(20), (24, 16))?;
    let mut focus: Vec<&Resource> =
        analysis.focus().into_iter().map(|i| &analysis.resources[i]).collect();
    focus.sort_by_key(|r| r.series.first_refusal);
    if focus.is_empty() {
        root.draw_text("Nothing that can run out was used.", &font(16), (24, 60))?;
        return Ok(());
    }
    let main = focus.iter().max_by_key(|r| r.refused_flows).copied().unwrap_or(focus[0]);
    let (_, below) = root.split_vertically(50);
    let lower = 330;
    let (upper, lower) = below.split_vertically(SIZE.1 as i32 - 50 - lower);
    let shown = &focus[..focus.len().min(3)];
    for (part, r) in upper.split_evenly((shown.len(), 1)).iter().zip(shown) {
        over_time(answer, part, r)?;
    }
    let parts = lower.split_evenly((1, 3));
    heat(&parts[0], &answer.title(main), &strips_or_own(answer, main))?;
    holders(answer, &parts[1], main)?;
    let position = analysis.resources.iter().position(|r| std::ptr::eq(r, main)).unwrap_or(0);
    let outlook = analysis.outlooks.get(position).and_then(Option::as_ref);
    match outlook {
        Some(o) if o.tells_sizes() => {
            let sizes = BySize::of(o, main.series.usable.unwrap_or(0), answer.target);
            by_size(&parts[2], &answer.title(main), &sizes)?;
        }
        Some(o) => parts[2].draw_text(o.verdict.sentence(), &faint(13), (8, 4))?,
        None => {}
    }
    Ok(())
}

/// Moments to label: round ones, no more than ten.
fn ticks(from: f64, until: f64) -> Vec<f64> {
    let steps =
        [1, 5, 10, 30, 60, 300, 600, 1800, 3600, 7200, 14_400, 28_800, 86_400].map(f64::from);
    let step =
        steps.into_iter().find(|s| (until - from) / s <= 10.0).unwrap_or((until - from) / 8.0);
    let first = (from / step).ceil() as u64;
    let last = (until / step).floor() as u64;
    (first..=last).take(16).map(|n| n as f64 * step).collect()
}

/// What was in use over time, the line of all there is, and a triangle where somebody was refused.
fn over_time(answer: CapacityAnswer<'_>, part: &Area<'_>, r: &Resource) -> Done {
    let curve = Curve::of(r, (answer.analysis.from, answer.analysis.until));
    let top = curve.top();
    let (from, until) =
        (curve.from.seconds(), curve.until.seconds().max(curve.from.seconds() + 1.0));
    let unit = answer.unit(r);
    let title = answer.title(r);
    let unit = if title.contains(unit) { String::new() } else { format!("{unit} ") };
    let name = format!("{title}: {unit}in use over time");
    part.draw_text(&name, &font(15), (24, 2))?;
    let mut chart = ChartBuilder::on(part)
        .margin_left(14)
        .margin_right(66)
        .margin_top(26)
        .set_label_area_size(LabelAreaPosition::Left, 62)
        .set_label_area_size(LabelAreaPosition::Bottom, 30)
        .build_cartesian_2d(from..until, 0.0..top * 1.18)?;
    chart
        .configure_mesh()
        .disable_mesh()
        .label_style(font(13))
        .axis_style(FAINT)
        .x_labels(0)
        .y_labels(4)
        .y_label_formatter(&|n| if *n > top * 1.01 { String::new() } else { format!("{n:.0}") })
        .draw()?;
    // the library's own labels would stand at multiples of 2,000 seconds
    let (base, plot) = (part.get_base_pixel(), chart.plotting_area().clone());
    for t in ticks(from, until) {
        let (x, y) = plot.map_coordinate(&(t, 0.0));
        let (x, y) = (x - base.0, y - base.1);
        part.draw(&PathElement::new(vec![(x, y), (x, y + 5)], FAINT.stroke_width(1)))?;
        let label = rounded(Instant((t * 1e9) as u64));
        part.draw_text(&label, &anchored(font(13), HPos::Center, VPos::Top), (x, y + 8))?;
    }
    let stretches = curve.stretches(1100);
    let width = (until - from) / stretches.len() as f64;
    let left = |i: usize| from + width * i as f64;
    let fill = USE.mix(0.55).filled();
    let resting = curve.resting(1100);
    let rests = resting.iter().enumerate().filter(|(_, s)| s.most > 0);
    chart.draw_series(rests.map(|(i, s)| {
        let area = [(left(i), 0.0), (left(i + 1), f64::from(s.most))];
        Rectangle::new(area, FAINT.mix(0.3).filled())
    }))?;
    let columns = stretches.iter().enumerate().filter(|(_, s)| s.most > 0);
    chart
        .draw_series(columns.map(|(i, s)| {
            Rectangle::new([(left(i), 0.0), (left(i + 1), f64::from(s.most))], fill)
        }))?;
    let outline: Vec<(f64, f64)> = stretches
        .iter()
        .enumerate()
        .flat_map(|(i, s)| [(left(i), f64::from(s.most)), (left(i + 1), f64::from(s.most))])
        .collect();
    chart.draw_series(std::iter::once(PathElement::new(outline, USE.stroke_width(1))))?;
    if let Some(usable) = curve.usable.filter(|u| *u as f64 <= top) {
        let y = usable as f64;
        let dash = (until - from) / 160.0;
        let dashes = (0..80).map(|n| from + dash * 2.0 * f64::from(n));
        chart.draw_series(
            dashes.map(|x| PathElement::new(vec![(x, y), (x + dash, y)], INK.stroke_width(1))),
        )?;
        // beside the chart: nothing is drawn over it there
        let (x, y) = plot.map_coordinate(&(until, y));
        let style = anchored(font(13), HPos::Left, VPos::Center);
        part.draw_text(&format!("all {usable}"), &style, (x - base.0 + 6, y - base.1))?;
    }
    refusals(
        part,
        r,
        &mut |from_x, to_x, low, high| {
            let area = [(left(from_x), top * low), (left(to_x), top * high)];
            chart.draw_series(std::iter::once(Rectangle::new(area, REFUSED.filled())))?;
            Ok(())
        },
        &stretches,
    )?;
    if !resting.is_empty() {
        let style = anchored(faint(13), HPos::Center, VPos::Top);
        let middle = part.dim_in_pixel().0 as i32 / 2;
        part.draw_text("blue: in use; grey above it: resting after use", &style, (middle, 4))?;
    }
    Ok(())
}

/// Refusals as columns above the line of all there is, as high as they are many, and in words.
/// `draw`: a column between two stretches, from one share of the scale to another.
fn refusals(
    part: &Area<'_>,
    r: &Resource,
    draw: &mut dyn FnMut(usize, usize, f64, f64) -> Done,
    stretches: &[Span],
) -> Done {
    let Some(first) = r.series.first_refusal else { return Ok(()) };
    // wide enough to be seen, as many as there are in it
    const WIDE: usize = 4;
    let columns = stretches.chunks(WIDE).map(|c| c.iter().map(|s| s.refused).sum::<u32>());
    let columns: Vec<u32> = columns.collect();
    let highest = columns.iter().copied().max().unwrap_or(0).max(1);
    for (n, count) in columns.iter().enumerate().filter(|c| *c.1 > 0) {
        let high = 1.03 + 0.13 * f64::from(*count) / f64::from(highest);
        draw(n * WIDE, (n + 1) * WIDE, 1.03, high)?;
    }
    let text = format!(
        "{} refused, the first at {}; the highest column is {highest}",
        r.refused_flows,
        rounded(first)
    );
    let style = anchored((FAMILY, 13).into_font().color(&REFUSED), HPos::Right, VPos::Top);
    part.draw_text(&text, &style, (part.dim_in_pixel().0 as i32 - 68, 4))?;
    Ok(())
}

/// The addresses that a resource's ports are on, or the resource itself.
fn strips_or_own<'a>(answer: CapacityAnswer<'a>, r: &'a Resource) -> Vec<(String, Curve<'a>)> {
    let named = |s: Strip<'a>| (s.address.to_string(), s.curve);
    let list: Vec<(String, Curve)> = strips(answer.analysis, r).into_iter().map(named).collect();
    if !list.is_empty() {
        return list;
    }
    vec![(answer.title(r), Curve::of(r, (answer.analysis.from, answer.analysis.until)))]
}

/// Shares of all there is, from none to all: darker is more, and only all is black.
fn shade(share: f64) -> RGBColor {
    if share >= 1.0 {
        return INK;
    }
    let light = |from: f64, to: f64| (from + (to - from) * share.clamp(0.0, 1.0)) as u8;
    RGBColor(light(240.0, 0.0), light(246.0, 90.0), light(252.0, 150.0))
}

fn heat(part: &Area<'_>, title: &str, strips: &[(String, Curve)]) -> Done {
    let what = if strips.len() > 1 { "by address" } else { "how full" };
    part.draw_text(&format!("{title}: {what}"), &font(15), (24, 2))?;
    let (width, height) = part.dim_in_pixel();
    let (edge, right, top) = (24, width as i32 - 24, 34);
    // of several, each with its name before it
    let left = if strips.len() > 1 { edge + 104 } else { edge };
    let room = (height as i32 - top - 84) / strips.len().max(1) as i32;
    let tall = room.clamp(13, 44);
    for (n, (name, curve)) in strips.iter().enumerate() {
        let y = top + n as i32 * tall;
        if strips.len() > 1 {
            let style = anchored(faint(12), HPos::Right, VPos::Center);
            part.draw_text(name, &style, (left - 8, y + (tall - 4) / 2))?;
        }
        let count = ((right - left) / 3) as usize;
        let usable = curve.usable.unwrap_or(curve.peak).max(1) as f64;
        for (i, s) in curve.stretches(count).iter().enumerate() {
            let x = left + i as i32 * 3;
            let style = shade(f64::from(s.most) / usable).filled();
            part.draw(&Rectangle::new([(x, y), (x + 3, y + tall - 4)], style))?;
        }
    }
    let y = top + strips.len() as i32 * tall + 6;
    if let Some((_, curve)) = strips.first() {
        let style = anchored(faint(13), HPos::Right, VPos::Top);
        part.draw_text(&rounded(curve.from), &faint(13), (left, y - 4))?;
        part.draw_text(&rounded(curve.until), &style, (right, y - 4))?;
    }
    let legend = [(0.0, "none"), (0.25, "1/4"), (0.5, "1/2"), (0.75, "3/4"), (1.0, "all")];
    for (i, (share, text)) in legend.into_iter().enumerate() {
        let x = edge + i as i32 * 76;
        part.draw(&Rectangle::new([(x, y + 22), (x + 20, y + 38)], shade(share).filled()))?;
        part.draw(&Rectangle::new([(x, y + 22), (x + 20, y + 38)], FAINT.stroke_width(1)))?;
        part.draw_text(text, &font(13), (x + 26, y + 24))?;
    }
    Ok(())
}

fn holders(answer: CapacityAnswer<'_>, part: &Area<'_>, r: &Resource) -> Done {
    part.draw_text(&format!("Held at {}, by host", rounded(r.at)), &font(15), (24, 2))?;
    let (width, _) = part.dim_in_pixel();
    let shown: Vec<_> = r.holders.iter().take(10).collect();
    let most = shown.first().map_or(1, |h| h.held).max(1);
    let (left, room) = (140, width as i32 - 140 - 60);
    for (i, h) in shown.iter().enumerate() {
        let y = 34 + i as i32 * 23;
        let name = answer.naming().address(h.host);
        part.draw_text(&name, &anchored(font(13), HPos::Right, VPos::Top), (left - 8, y))?;
        let long = ((h.held as f64 / most as f64) * f64::from(room)).max(1.0) as i32;
        part.draw(&Rectangle::new([(left, y), (left + long, y + 15)], USE.mix(0.55).filled()))?;
        part.draw(&Rectangle::new([(left, y), (left + long, y + 15)], USE.stroke_width(1)))?;
        part.draw_text(&h.held.to_string(), &font(13), (left + long + 6, y))?;
    }
    let more = r.holders.len().saturating_sub(shown.len());
    if more > 0 {
        let rest: u64 = r.holders[shown.len()..].iter().map(|h| h.held).sum();
        let text = format!("{more} more hold {rest} together");
        part.draw_text(&text, &faint(13), (left, 34 + shown.len() as i32 * 23))?;
    }
    Ok(())
}

/// The share refused by size, on a scale of tens.
fn by_size(part: &Area<'_>, title: &str, sizes: &BySize) -> Done {
    part.draw_text(&format!("{title}: refused, by how many there are"), &font(15), (8, 2))?;
    let (Some(first), Some(last)) = (sizes.points.first(), sizes.points.last()) else {
        return Ok(());
    };
    let (first, last) = (first.0 as f64, last.0 as f64);
    let mut chart = ChartBuilder::on(part)
        .margin_top(30)
        .margin_right(28)
        .set_label_area_size(LabelAreaPosition::Left, 62)
        .set_label_area_size(LabelAreaPosition::Bottom, 52)
        .build_cartesian_2d(first..last, (LEAST_SHARE..1.0f64).log_scale())?;
    chart
        .configure_mesh()
        .disable_mesh()
        .label_style(font(13))
        .axis_style(FAINT)
        .x_labels(4)
        .y_labels(6)
        .x_label_formatter(&|n| format!("{n:.0}"))
        .y_label_formatter(&|p| share(*p))
        .draw()?;
    let points = sizes
        .points
        .iter()
        .filter(|p| p.1 >= LEAST_SHARE)
        .map(|p| (p.0 as f64, p.1))
        .collect::<Vec<_>>();
    chart.draw_series(std::iter::once(PathElement::new(points, USE.stroke_width(2))))?;
    let span = last - first;
    let dash = span / 60.0;
    let dashes = (0..30).map(|n| first + dash * 2.0 * f64::from(n));
    let target = sizes.target.max(LEAST_SHARE);
    chart
        .draw_series(dashes.map(|x| {
            PathElement::new(vec![(x, target), (x + dash, target)], INK.stroke_width(1))
        }))?;
    let text = Text::new(
        format!("target {}", share(sizes.target)),
        (first + span * 0.02, target * 0.9),
        anchored(font(13), HPos::Left, VPos::Top),
    );
    chart.draw_series(std::iter::once(text))?;
    let mut mark = |n: u64, text: String, high: f64, colour: RGBColor| -> Done {
        let x = (n as f64).clamp(first, last);
        chart.draw_series(std::iter::once(PathElement::new(
            vec![(x, LEAST_SHARE), (x, 1.0)],
            colour.stroke_width(1),
        )))?;
        // on the side that has more room
        let before = x > first + span / 2.0;
        let (side, at) =
            if before { (HPos::Right, x - span * 0.015) } else { (HPos::Left, x + span * 0.015) };
        let style = anchored((FAMILY, 13).into_font().color(&colour), side, VPos::Center);
        chart.draw_series(std::iter::once(Text::new(text, (at, high), style)))?;
        Ok(())
    };
    // each at a height of its own
    mark(sizes.usable, format!("now {}", sizes.usable), 3e-5, INK)?;
    if let Some(needed) = sizes.needed {
        mark(needed, format!("needed {needed}"), 0.4, REFUSED)?;
    }
    Ok(())
}
