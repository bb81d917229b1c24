//! The answer of `follow` as text: the way hop by hop, and what every place sees.

use std::io::{self, Write};

use zarnet_analysis::answer::follow::{DisabledRule, FollowAnswer, label, rounds, without_rounds};
use zarnet_core::net::{Endpoint, Tuple};
use zarnet_core::network::{Handover, Origin, Receiver, Trace};
use zarnet_core::observe::{Stage, StageResult, Step};
use zarnet_core::plan::DeviceId;
use zarnet_core::predict::ObservationPoint;
use zarnet_core::{Class, Reason};

use super::table::{self, BAD, BOLD, CAUTION, Cell, Column, DIM, GOOD};

/// Writes the answer for people.
pub fn text(
    answer: FollowAnswer<'_>,
    out: &mut dyn Write,
    width: usize,
    verbose: bool,
) -> io::Result<()> {
    verdict(answer, out)?;
    ways(answer, out, verbose)?;
    views(answer, out, width)
}

/// What became of the flow, in a sentence.
fn verdict(answer: FollowAnswer<'_>, out: &mut dyn Write) -> io::Result<()> {
    let f = answer.followed;
    let (class, style) = match f.class {
        Class::Translated => ("translated, delivered and answered", GOOD),
        Class::Untranslated if f.loss.is_some_and(|l| l.reason == Reason::LinkOnly) => {
            ("stays on its link, as it is", CAUTION)
        }
        Class::Untranslated => ("delivered and answered as it is", CAUTION),
        Class::Refused if f.delivered() => ("delivered, and its answer refused", BAD),
        Class::Undelivered if f.delivered() => ("delivered, and its answer lost", BAD),
        Class::Refused => ("refused", BAD),
        Class::Undelivered => ("not delivered", BAD),
    };
    writeln!(out, "{BOLD}{}{BOLD:#}  {style}{class}{style:#}", answer.naming.flow(&f.flow))?;
    let Some(loss) = f.loss else { return Ok(()) };
    let device =
        loss.device.map(|d| format!(" at {}", answer.naming.device(d))).unwrap_or_default();
    let rule =
        loss.device.zip(loss.rule).map(|(d, r)| format!(", rule {}", answer.naming.rule(d, r)));
    let place =
        answer.position(loss.place).map(|p| format!("  {DIM}{p}{DIM:#}")).unwrap_or_default();
    let (reason, rule) = (loss.reason, rule.unwrap_or_default());
    writeln!(out, "{style}{reason}{style:#}{device}{rule}: {}{place}", reason.sentence())
}

/// Both ways, hop by hop.
fn ways(answer: FollowAnswer<'_>, out: &mut dyn Write, verbose: bool) -> io::Result<()> {
    let f = answer.followed;
    let Some((origin, packet)) = f.sent else { return Ok(()) };
    let client = answer.observation_point(ObservationPoint::Client, None);
    writeln!(out, "\n{BOLD}THERE{BOLD:#}")?;
    if !matches!(origin, Origin::Device(..)) {
        line(out, &client, "sends", packet.ends)?;
        handovers(answer, out, &f.forth.departure)?;
    }
    hops(answer, out, &f.forth, verbose)?;
    let Some((receiver, arrived)) = f.arrived else { return end(answer, out, &f.forth) };
    let server = answer.observation_point(ObservationPoint::Server, Some(arrived.ends));
    let by_device = matches!(receiver, Receiver::Device(_) | Receiver::Answering(..));
    if !by_device {
        line(out, &server, "gets", arrived.ends)?;
    }
    if matches!(receiver, Receiver::Device(_)) {
        return Ok(());
    }
    writeln!(out, "\n{BOLD}BACK{BOLD:#}")?;
    if !by_device {
        line(out, &server, "sends", arrived.ends.reversed())?;
        handovers(answer, out, &f.back.departure)?;
    }
    hops(answer, out, &f.back, verbose)?;
    let Some(returned) = f.returned else { return end(answer, out, &f.back) };
    if f.answered() {
        return line(out, &client, "gets", returned.ends);
    }
    let wanted = packet.destination();
    line(out, &client, "drops", returned.ends)?;
    remark(out, BAD, &format!("it asked {wanted} and takes an answer from there only"))
}

fn hops(
    answer: FollowAnswer<'_>,
    out: &mut dyn Write,
    trace: &Trace,
    verbose: bool,
) -> io::Result<()> {
    let (hops, again) = without_rounds(trace);
    for hop in hops {
        match hop.ingress {
            Some(ingress) => {
                line(out, &answer.interface(hop.device, ingress), "in", hop.packet.ends)?
            }
            None => line(out, answer.naming.device(hop.device), "sends", hop.packet.ends)?,
        }
        for step in hop.steps.iter().filter(|s| verbose || is_news(s)) {
            step_line(answer, out, hop.device, step)?;
        }
        for rule in answer.disabled(hop) {
            let place = rule.place.map(|p| format!("  {DIM}{p}{DIM:#}")).unwrap_or_default();
            let text = format!("{} would match, but is disabled", rule.rule);
            writeln!(out, "  {:15} {CAUTION}{text}{CAUTION:#}{place}", "disabled rule")?;
        }
        if let Some(exit) = hop.exit {
            line(out, &answer.interface(hop.device, exit.interface), "out", exit.packet.ends)?;
            handovers(answer, out, &hop.handed)?;
        }
    }
    if again > 0 { remark(out, CAUTION, &rounds(again)) } else { Ok(()) }
}

/// Says where a packet was lost, if no step of a device has said it.
fn end(answer: FollowAnswer<'_>, out: &mut dyn Write, trace: &Trace) -> io::Result<()> {
    for DisabledRule { device, rule, place } in answer.disabled_owners() {
        let place = place.map(|p| format!(" ({p})")).unwrap_or_default();
        remark(out, CAUTION, &format!("rule {rule} of {device} has it, but is disabled{place}"))?;
    }
    match answer.followed.loss {
        Some(loss) if !answer.is_told(trace) => remark(out, BAD, &format!("LOST: {}", loss.reason)),
        _ => Ok(()),
    }
}

fn line(out: &mut dyn Write, who: &str, does: &str, ends: Tuple) -> io::Result<()> {
    let label = format!("{who} {does}");
    writeln!(out, "{BOLD}{label:30}{BOLD:#}  {ends}")
}

fn remark(out: &mut dyn Write, style: anstyle::Style, text: &str) -> io::Result<()> {
    writeln!(out, "{:32}{style}{text}{style:#}", "")
}

fn handovers(answer: FollowAnswer<'_>, out: &mut dyn Write, list: &[Handover]) -> io::Result<()> {
    for handover in list {
        let style = if handover.to.is_some() { DIM } else { BAD };
        remark(out, style, &answer.handover(handover))?;
    }
    Ok(())
}

fn step_line(
    answer: FollowAnswer<'_>,
    out: &mut dyn Write,
    device: DeviceId,
    step: &Step,
) -> io::Result<()> {
    let (text, style) = (answer.result(device, step), style_of(step));
    let by = answer.decider(device, step);
    let place =
        answer.position(step.place).map(|p| format!("  {DIM}{p}{DIM:#}")).unwrap_or_default();
    writeln!(out, "  {:15} {style}{text}{style:#}{by}{place}", label(step.stage))
}

/// What every place sees.
fn views(answer: FollowAnswer<'_>, out: &mut dyn Write, width: usize) -> io::Result<()> {
    let views = answer.followed.views();
    if views.is_empty() {
        return Ok(());
    }
    writeln!(out, "\n{BOLD}SEEN{BOLD:#}")?;
    let columns = [
        Column::text("AT"),
        Column::text("FROM"),
        Column::text("TO"),
        Column::text("ANSWER FROM").expendable(2),
        Column::text("ANSWER TO").expendable(1),
    ];
    let cell = |end: Option<Endpoint>| Cell::from(end.map_or(String::new(), |e| e.to_string()));
    let rows: Vec<Vec<Cell>> = views
        .iter()
        .map(|v| {
            let (forth, back) = (v.forth, v.back);
            vec![
                answer.observation_point(v.at, v.forth).into(),
                cell(forth.map(|e| e.source)),
                cell(forth.map(|e| e.destination)),
                cell(back.map(|e| e.source)),
                cell(back.map(|e| e.destination)),
            ]
        })
        .collect();
    table::write(out, &columns, &rows, width).map(|_| ())
}

/// How the result of a step is shown.
fn style_of(step: &Step) -> anstyle::Style {
    match step.result {
        StageResult::NotAttached
        | StageResult::New
        | StageResult::NotOwn
        | StageResult::Unchanged(Reason::NoRule) => DIM,
        StageResult::Translated { from, to } if from != to => GOOD,
        StageResult::Unchanged(_) => CAUTION,
        StageResult::Dropped(_) => BAD,
        StageResult::Accepted
        | StageResult::Known { .. }
        | StageResult::Translated { .. }
        | StageResult::Answered
        | StageResult::Taken
        | StageResult::Routed { .. }
        | StageResult::Committed { .. } => anstyle::Style::new(),
    }
}

/// Whether a step did anything, or decided anything.
fn is_news(step: &Step) -> bool {
    !matches!(
        step.result,
        StageResult::NotAttached
            | StageResult::New
            | StageResult::NotOwn
            | StageResult::Unchanged(Reason::NoRule)
    ) || step.stage == Stage::Source
}

/// What a step of the search is called for people.
pub fn label_of(step: &str, back: bool) -> &str {
    match (step, back) {
        ("departure", false) => "leaves its sender",
        ("departure", true) => "the answer leaves the server",
        ("handover", _) => "handed on",
        ("delivery", _) => "it arrives",
        ("answer", _) => "the answer is taken",
        ("ingress-acl", _) => label(Stage::IngressAcl),
        ("destination", _) => label(Stage::Destination),
        ("own-address", _) => label(Stage::Own),
        ("egress-acl", _) => label(Stage::EgressAcl),
        (other, _) => other,
    }
}
