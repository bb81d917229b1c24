//! The answer of `behaviour`: what presets, or the devices of a plan, do where rules leave it open.

use std::io::{self, Write};

use serde::ser::{Serialize, SerializeMap, SerializeStruct, Serializer};
use zarnet_core::plan::{Behaviour, Described, Plan, Preset, Timers};

use super::{Answer, Row, SHAPE};

/// Behaviours to be shown side by side.
pub struct BehaviourAnswer {
    /// Presets, or devices of a plan.
    pub subjects: Vec<Subject>,
}

/// Something that has a behaviour: a preset, or a device of a plan.
pub struct Subject {
    /// Name of the preset or device.
    pub name: String,
    /// Keys of the behaviour.
    pub behaviour: Vec<Described>,
    /// Keys of the timers.
    pub timers: Vec<Described>,
}

impl Subject {
    /// The behaviour and the timers of something that has a name.
    pub fn new(name: &str, behaviour: &Behaviour, timers: &Timers) -> Self {
        Self { name: name.into(), behaviour: behaviour.settings(), timers: timers.settings() }
    }

    /// All keys, those of the timers last.
    pub fn settings(&self) -> impl Iterator<Item = &Described> {
        self.behaviour.iter().chain(&self.timers)
    }
}

impl BehaviourAnswer {
    /// All presets, or the one of this name; nothing if there is none.
    pub fn of_presets(name: Option<&str>) -> Self {
        let timers = Timers::default();
        let presets = Preset::ALL.iter().filter(|p| name.is_none_or(|n| n == p.0));
        let subjects = presets.map(|(name, p)| Subject::new(name, &p.behaviour(), &timers));
        Self { subjects: subjects.collect() }
    }

    /// The devices of a plan.
    pub fn of_plan(plan: &Plan) -> Self {
        let subject = plan.devices.iter().map(|d| Subject::new(&d.name, &d.behaviour, &d.timers));
        Self { subjects: subject.collect() }
    }
}

/// The answer with the values as JSON has them.
pub struct BehaviourShape<'a>(&'a [Subject]);

/// Keys and their values.
struct Values<'a>(&'a [Described]);

impl Serialize for Values<'_> {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        let mut map = s.serialize_map(Some(self.0.len()))?;
        for d in self.0 {
            let value: serde_json::Value = serde_json::from_str(&d.value).unwrap_or_default();
            map.serialize_entry(&d.key, &value)?;
        }
        map.end()
    }
}

impl Serialize for Subject {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        let mut o = s.serialize_struct("behaviour", 3)?;
        o.serialize_field("name", &self.name)?;
        o.serialize_field("behaviour", &Values(&self.behaviour))?;
        o.serialize_field("timers", &Values(&self.timers))?;
        o.end()
    }
}

impl Serialize for BehaviourShape<'_> {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        let mut o = s.serialize_struct("behaviours", 2)?;
        o.serialize_field("shape", &SHAPE)?;
        o.serialize_field("behaviours", self.0)?;
        o.end()
    }
}

impl Answer for BehaviourAnswer {
    type Shape<'s> = BehaviourShape<'s>;

    fn shape(&self) -> BehaviourShape<'_> {
        BehaviourShape(&self.subjects)
    }

    fn columns(&self) -> &'static [&'static str] {
        &["name", "key", "value", "meaning", "source"]
    }

    fn rows(&self, out: &mut dyn Write) -> io::Result<()> {
        let mut row = Row::default();
        for subject in &self.subjects {
            for d in subject.settings() {
                for text in [&subject.name, &*d.key, &d.value, d.meaning, d.source] {
                    row.text(text);
                }
                row.write(out)?;
            }
        }
        Ok(())
    }
}
