//! A document of the data models as a plan.

mod edge;
mod filters;
mod fixed;
mod reader;
mod rules;
mod settings;
mod surroundings;
mod toml;

use serde_json::Value;

use super::member;
use crate::data_model::{DataFault, DataFaultKind, Foreign, check};
pub use reader::LeftOut;
use reader::Reader;
use toml::Table;

/// A plan made of a document.
#[derive(Debug, Clone)]
pub struct Imported {
    /// The plan, as text.
    pub text: String,
    /// Name of the device in it.
    pub device: String,
    /// What of the document is not in the plan.
    pub left_out: Vec<LeftOut>,
    /// What the document leaves open, and what was taken.
    pub assumed: Vec<String>,
}

/// Why a document is no plan.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ImportError {
    /// The modules do not allow it.
    Faults(Vec<DataFault>),
    /// There is nothing in it that a plan is made of.
    NothingThere,
}

/// Makes a plan of a document; `name` is what the device is called if the document does not say.
///
/// # Errors
/// Everything that is wrong with it.
pub fn import(document: &Value, name: &str) -> Result<Imported, ImportError> {
    check(document, Foreign::PassedOver).map_err(ImportError::Faults)?;
    let known = [member::NAT, member::EDGE, member::INTERFACES];
    if !known.iter().any(|m| document.get(m).is_some()) {
        return Err(ImportError::NothingThere);
    }
    let reader = Reader::new(document);
    let mut import = Import {
        reader: &reader,
        assumed: Vec::new(),
        faults: Vec::new(),
        device: Table::default(),
        names: Default::default(),
    };
    let text = import.plan(name);
    let (assumed, faults) = (import.assumed, import.faults);
    if !faults.is_empty() {
        return Err(ImportError::Faults(faults));
    }
    let (text, device) = text;
    Ok(Imported { text, device, left_out: reader.left_out(), assumed })
}

/// An import in the making.
struct Import<'a> {
    reader: &'a Reader<'a>,
    assumed: Vec<String>,
    faults: Vec<DataFault>,
    /// Keys of the device.
    device: Table,
    /// Names of rules that are taken.
    names: std::collections::HashSet<String>,
}

impl Import<'_> {
    fn fault(&mut self, path: String, told: &str) {
        self.faults.push(DataFault { path, kind: DataFaultKind::Malformed(told.into()) });
    }

    /// The whole plan, and the name of its device.
    fn plan(&mut self, name: &str) -> (String, String) {
        let top = self.reader.top();
        let edge = top.get(member::EDGE);
        let instances = top.descend(&[member::NAT, "instances"]).map(|i| i.list("instance"));
        let instances = instances.unwrap_or_default();
        let own = edge.as_ref().and_then(|e| e.text("name")).map(str::to_owned);
        let of_instance = || instances.iter().find_map(|i| i.text("name")).map(str::to_owned);
        let device = own.or_else(of_instance).unwrap_or_else(|| name.to_owned());
        instances.iter().for_each(|i| {
            let _ = i.text("name");
        });
        self.device.text("name", &device);
        let behaviour = self.settings(&instances, edge.as_ref());
        self.device.merge(behaviour);
        let (interfaces, segments) = self.interfaces(&instances, edge.is_some());
        let routes = self.routes(edge.as_ref());
        let acls = self.filters();
        let (pools, rules) = self.rules(&instances, edge.as_ref(), &interfaces);
        let policies = edge.as_ref().map(|e| self.policies(e)).unwrap_or_default();

        let mut out = String::new();
        let mut plan = Table::default();
        plan.text("plan", &device);
        out.push_str(&plan.written(""));
        let mut tables = |heading: &str, indent: &str, tables: Vec<Table>| {
            for table in tables {
                out.push_str(&format!("\n{indent}[[{heading}]]\n{}", table.written(indent)));
            }
        };
        tables("segment", "", segments);
        tables("device", "", vec![std::mem::take(&mut self.device)]);
        tables("device.interface", "  ", interfaces.into_iter().map(|i| i.table).collect());
        tables("device.route", "  ", routes);
        tables("device.acl", "  ", acls);
        tables("device.policy", "  ", policies);
        tables("device.pool", "  ", pools);
        tables("device.rule", "  ", rules);
        (out, device)
    }

    /// A name for a rule that has none: what it is, and its number.
    fn name(&mut self, kind: &str, number: u64, instance: u64) -> String {
        let mut name = format!("{kind}-{number}");
        if !self.names.insert(name.clone()) {
            name = format!("{kind}-{instance}-{number}");
            self.names.insert(name.clone());
        }
        name
    }
}
