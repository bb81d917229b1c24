//! The answer of `impact`: packets that something else becomes of, each class as a box that can be
//! read.

use std::io::{self, Write};

use crate::impact::{ChangedClass, ChangedSetting, Impact, LiveSession};
use crate::space::{Field, Meaning};
use serde::Serialize;

use super::packets::{addresses, flow, outcome, service};
use super::{Answer, Row, SHAPE};

/// What was found, with the names of both plans.
#[derive(Clone, Copy)]
pub struct ImpactAnswer<'a> {
    /// What the change changes.
    pub found: &'a Impact,
    /// Sessions of a day that linger or break, where a day was given.
    pub live: Option<&'a [LiveSession]>,
}

/// The answer as a shape.
#[derive(Serialize)]
pub struct ImpactShape<'a> {
    shape: u32,
    classes: Vec<ClassShape<'a>>,
    gone: &'a [String],
    new: &'a [String],
    settings: Vec<Setting<'a>>,
    sessions: Vec<SessionShape<'a>>,
    /// Devices with more classes than are compared.
    #[serde(skip_serializing_if = "<[_]>::is_empty")]
    uncompared: &'a [String],
}

#[derive(Serialize)]
struct ClassShape<'a> {
    device: &'a str,
    piece: Option<&'a str>,
    effect: &'static str,
    from: &'a [String],
    into: Vec<String>,
    source: String,
    destination: String,
    service: String,
    before: String,
    after: String,
    witness: String,
    likely: bool,
}

#[derive(Serialize)]
struct Setting<'a> {
    device: Option<&'a str>,
    #[serde(skip_serializing_if = "str::is_empty")]
    item: &'a str,
    key: &'a str,
    before: &'a str,
    after: &'a str,
    meaning: &'a str,
}

#[derive(Serialize)]
struct SessionShape<'a> {
    device: &'a str,
    fate: &'static str,
    protocol: String,
    source: String,
    destination: String,
    translated: String,
}

/// What a change does to packets.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Effect {
    /// They were dropped, and arrive now.
    Gained,
    /// They arrived, and are dropped now.
    Lost,
    /// They arrive otherwise than before.
    Changed,
    /// They are dropped as before, for another reason.
    StillDropped,
}

impl Effect {
    /// The effect on a class of packets.
    pub fn of(class: &ChangedClass) -> Self {
        let dropped = |m: &Meaning| matches!(m, Meaning::Dropped(_));
        match (dropped(&class.before), dropped(&class.after)) {
            (true, true) => Self::StillDropped,
            (true, false) => Self::Gained,
            (false, true) => Self::Lost,
            (false, false) => Self::Changed,
        }
    }

    /// The stable name, as JSON and CSV have it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Gained => "gained",
            Self::Lost => "lost",
            Self::Changed => "changed",
            Self::StillDropped => "still-dropped",
        }
    }
}

/// The way out, where both have one.
fn into(class: &ChangedClass) -> Vec<String> {
    let mut list: Vec<String> = Vec::new();
    for meaning in [&class.before, &class.after] {
        if let Meaning::Leaves { egress, .. } = meaning
            && !list.contains(egress)
        {
            list.push(egress.clone());
        }
    }
    list
}

/// Before and after: with the way out, where only that differs.
pub fn outcomes(class: &ChangedClass) -> (String, String) {
    let (before, after) =
        [&class.before, &class.after].map(|m| outcome(m, &class.area, class.witness)).into();
    if before != after {
        return (before, after);
    }
    let way = |m: &Meaning| match m {
        Meaning::Leaves { egress, next_hop, .. } => {
            let hop = next_hop.map(|h| format!(" to {h}")).unwrap_or_default();
            format!(" by {egress}{hop}")
        }
        Meaning::Dropped(_) | Meaning::ToDevice => String::new(),
    };
    (before + &way(&class.before), after + &way(&class.after))
}

impl<'a> ImpactAnswer<'a> {
    /// Each class in two parts: its device, and what becomes of which packets.
    pub(super) fn classes(self) -> Vec<(String, String)> {
        let all = self.whole().classes.into_iter();
        let text = |c: ClassShape<'_>| {
            let packets = format!("{} -> {}, {}", c.source, c.destination, c.service);
            (c.device.to_owned(), format!("{packets}: {} -> {}", c.before, c.after))
        };
        all.map(text).collect()
    }

    /// The whole answer as JSON has it.
    pub(super) fn whole(self) -> ImpactShape<'a> {
        let class = |c: &'a ChangedClass| {
            let (before, after) = outcomes(c);
            ClassShape {
                device: &c.device,
                piece: c.piece.as_deref(),
                effect: Effect::of(c).name(),
                from: &c.from,
                into: into(c),
                source: addresses(c.area.of(Field::Source)),
                destination: addresses(c.area.of(Field::Destination)),
                service: service(&c.area),
                before,
                after,
                witness: flow(c.witness),
                likely: c.likely,
            }
        };
        let setting = |s: &'a ChangedSetting| Setting {
            device: s.device.as_deref(),
            item: &s.item,
            key: &s.key,
            before: &s.before,
            after: &s.after,
            meaning: s.meaning,
        };
        let session = |l: &'a LiveSession| SessionShape {
            device: &l.device,
            fate: l.fate.name(),
            protocol: l.session.protocol.to_string(),
            source: l.session.original.source.to_string(),
            destination: l.session.original.destination.to_string(),
            translated: l.session.translated.to_string(),
        };
        ImpactShape {
            shape: SHAPE,
            classes: self.found.classes.iter().map(class).collect(),
            gone: &self.found.gone,
            new: &self.found.new,
            settings: self.found.settings.iter().map(setting).collect(),
            sessions: self.live.unwrap_or_default().iter().map(session).collect(),
            uncompared: &self.found.uncompared,
        }
    }
}

impl Answer for ImpactAnswer<'_> {
    type Shape<'s>
        = ImpactShape<'s>
    where
        Self: 's;

    fn shape(&self) -> Self::Shape<'_> {
        self.whole()
    }

    fn columns(&self) -> &'static [&'static str] {
        &[
            "device",
            "from",
            "into",
            "source",
            "destination",
            "service",
            "before",
            "after",
            "witness",
        ]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        for c in self.whole().classes {
            let from = c.from.join(" ");
            let into = c.into.join(" ");
            for text in [
                c.device,
                &from,
                &into,
                &c.source,
                &c.destination,
                &c.service,
                &c.before,
                &c.after,
                &c.witness,
            ] {
                row.text(text);
            }
            row.write(out)?;
        }
        Ok(())
    }
}
