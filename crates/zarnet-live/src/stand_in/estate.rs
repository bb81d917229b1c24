//! The network of a stand-in and its time, on a thread of its own: everybody else asks it.

use std::collections::HashMap;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::Duration;

use jiff::Timestamp;
use serde_json::Value;
use tokio::sync::{broadcast, oneshot};
use zarnet_core::event::{Action, Event};
use zarnet_core::net::Instant;
use zarnet_core::plan::{DeviceId, Plan};
use zarnet_core::predict::{Live, Options};
use zarnet_formats::ietf_nat::{ModuleForm, export};
use zarnet_formats::traffic::{Attempt, Items, Traffic};

use super::clock::{Clock, Pace};
use super::datastore::{Datastore, Refused, Saving, Unconfirmed, edited, planned};
use super::indices::Indices;
use super::log::{LogSetup, Sending};

/// What a stand-in is made of.
pub struct Setup {
    /// The plan; every device of it can be asked.
    pub plan: Arc<Plan>,
    /// What traffic runs.
    pub playing: Option<Playing>,
    /// How time goes on.
    pub pace: Pace,
    /// The instant at which it begins.
    pub at: Instant,
    /// What the first instant of the traffic is called.
    pub begins: Timestamp,
    /// Whether the devices know `zarnet-policy`.
    pub form: ModuleForm,
    /// When configuration is saved.
    pub saving: Saving,
    /// Where random choices start from.
    pub seed: u64,
    /// Where the devices send their translation log, if they do.
    pub log: Option<LogSetup>,
}

/// Traffic that runs on a stand-in.
pub struct Playing(pub Traffic);

/// A network at work.
pub(super) struct Estate<'t> {
    live: Live,
    items: Option<Items<'t>>,
    pub(super) clock: Clock,
    pub(super) devices: Vec<DeviceState>,
    events: broadcast::Sender<DeviceEvent>,
    /// What went wrong with the traffic: it stands still then.
    pub(super) halted: Option<String>,
    /// The translation log, as long as somebody takes it.
    log: Option<Sending>,
    /// Why it is sent no more.
    pub(super) log_failure: Option<String>,
}

/// Something that a device tells of itself.
#[derive(Debug, Clone)]
pub(super) struct DeviceEvent {
    pub(super) device: DeviceId,
    pub(super) at: String,
    /// The notification, with its module.
    pub(super) content: Value,
}

/// What a device keeps besides its table.
pub(super) struct DeviceState {
    pub(super) datastore: Datastore,
    pub(super) indices: Indices,
    /// Which thresholds were passed when they were looked at last, by instance, policy and pool.
    pub(super) thresholds: HashMap<(u64, u64, u64), bool>,
    /// When it was started last.
    pub(super) started: Instant,
}

impl<'t> Estate<'t> {
    fn new(setup: &'t Setup, events: broadcast::Sender<DeviceEvent>) -> Self {
        let traffic = setup.playing.as_ref().map(|p| &p.0);
        let sources = traffic.map(Traffic::sources);
        let options = Options { seed: setup.seed, sources, ..Options::default() };
        let planned_events = traffic.map(Traffic::events).unwrap_or_default();
        let run = Timestamp::now().as_nanosecond() as u64 ^ u64::from(std::process::id()) << 20;
        let device = |n: usize| {
            let exported = export(&setup.plan, DeviceId(n as u16), setup.form);
            DeviceState {
                datastore: Datastore::new(exported.document, setup.form, setup.saving, run),
                indices: Indices::default(),
                thresholds: HashMap::new(),
                started: Instant::ZERO,
            }
        };
        Self {
            live: Live::new(setup.plan.clone(), planned_events, options),
            items: traffic.map(|t| t.items(Attempt::Sorted)),
            clock: Clock::new(setup.pace, setup.at, setup.begins),
            devices: (0..setup.plan.devices.len()).map(device).collect(),
            events,
            halted: None,
            log: None,
            log_failure: None,
        }
    }

    /// Sends what was logged since the last time.
    fn log_on(&mut self) {
        let sent = self.log.as_mut().map(|log| log.send(&mut self.live));
        if let Some(Err(error)) = sent {
            // the device goes on, as one would whose collector is gone
            self.log_failure = Some(format!("the translation log cannot be sent: {error}"));
            self.log = None;
        }
    }

    /// Lets the network come to what time it is.
    fn catch_up(&mut self) {
        let now = self.clock.now().max(self.live.now());
        let played = match &mut self.items {
            Some(items) if self.halted.is_none() => {
                self.live.play(items, now).map_err(|halt| match halt {
                    zarnet_core::predict::Halt::Traffic(error) => error.fault.to_string(),
                    other => format!("{other:?}"),
                })
            }
            _ => self.live.play(&mut Nothing, now).map_err(|halt| format!("{halt:?}")),
        };
        if let Err(error) = played {
            self.halted = Some(error);
        }
        let overdue: Vec<DeviceId> = (0..)
            .zip(&self.devices)
            .filter(|(_, d)| {
                let unconfirmed = d.datastore.unconfirmed.as_ref();
                unconfirmed.is_some_and(|u| u.until <= std::time::Instant::now())
            })
            .map(|(i, _)| DeviceId(i))
            .collect();
        overdue.into_iter().for_each(|id| {
            let _ = self.take_back(id);
        });
        self.tell_thresholds();
        self.log_on();
    }

    pub(super) fn live(&mut self) -> &mut Live {
        &mut self.live
    }

    pub(super) fn device(&self, id: DeviceId) -> &DeviceState {
        &self.devices[id.index()]
    }

    pub(super) fn device_mut(&mut self, id: DeviceId) -> &mut DeviceState {
        &mut self.devices[id.index()]
    }

    /// The network's plan as it is now.
    pub(super) fn plan(&self) -> Arc<Plan> {
        self.live.network().plan().clone()
    }

    /// The device runs by another configuration from now on; its sessions stay.
    pub(super) fn configure(&mut self, id: DeviceId, document: Value) -> Result<(), Vec<Refused>> {
        let own = self.plan();
        let name = own.devices[id.index()].name.clone();
        let state = self.device(id);
        let other = planned(&document, state.datastore.form, &name)?;
        let other = own.on_same_segments(id, &other, DeviceId(0));
        let action = Action::Plan(Arc::new(other), DeviceId(0));
        self.live.act(Event { at: Instant::ZERO, device: id, action });
        self.device_mut(id).datastore.set_running(Arc::new(document));
        self.tell_changed(id, false);
        Ok(())
    }

    /// Makes edits, all or none; `confirm_within`: they are taken back after that unless somebody
    /// confirms them.
    pub(super) fn edit(
        &mut self,
        id: DeviceId,
        edits: &[zarnet_formats::data_model::Edit],
        confirm_within: Option<Duration>,
    ) -> Result<(), (Option<usize>, Vec<Refused>)> {
        let datastore = &self.device(id).datastore;
        if datastore.unconfirmed.is_some() {
            let message = "another edit waits to be confirmed, or taken back";
            return Err((None, vec![Refused::new("in-use", message)]));
        }
        let before = datastore.running.clone();
        let document = edited(&before, edits).map_err(|(i, refused)| (Some(i), vec![refused]))?;
        if let Some(within) = confirm_within {
            let until = std::time::Instant::now() + within;
            let date = Timestamp::now() + jiff::SignedDuration::from_secs(within.as_secs() as i64);
            let told_until = date.strftime("%Y-%m-%dT%H:%M:%SZ").to_string();
            let change = self.device(id).datastore.change() + 1;
            self.device_mut(id).datastore.unconfirmed =
                Some(Unconfirmed { before, until, told_until, change });
        }
        let done = self.configure(id, document);
        if done.is_err() {
            self.device_mut(id).datastore.unconfirmed = None;
        }
        done.map_err(|refused| (None, refused))
    }

    /// The running configuration is saved.
    pub(super) fn save(&mut self, id: DeviceId) {
        self.device_mut(id).datastore.save();
        self.tell_changed(id, false);
    }

    /// Somebody changed something and took it back: only the version tells.
    pub(super) fn touch(&mut self, id: DeviceId) {
        let running = self.device(id).datastore.running.clone();
        self.device_mut(id).datastore.set_running(running);
    }

    /// Keeps the edit that would be taken back.
    pub(super) fn confirm(&mut self, id: DeviceId) -> Result<(), Refused> {
        let datastore = &mut self.device_mut(id).datastore;
        if datastore.unconfirmed.take().is_none() {
            return Err(Refused::new("operation-failed", "no edit waits to be confirmed"));
        }
        if datastore.saving == Saving::WithEdit {
            datastore.save();
        }
        Ok(())
    }

    /// Takes back the edit that waits to be confirmed.
    pub(super) fn take_back(&mut self, id: DeviceId) -> Result<(), Refused> {
        let Some(edit) = self.device_mut(id).datastore.unconfirmed.take() else {
            return Err(Refused::new("operation-failed", "no edit waits to be confirmed"));
        };
        // nobody else could edit meanwhile
        if edit.change == self.device(id).datastore.change() {
            let _ = self.configure(id, (*edit.before).clone());
            self.tell_changed(id, true);
        }
        Ok(())
    }

    /// The device starts anew with what is saved: its table is lost.
    pub(super) fn restart(&mut self, id: DeviceId) {
        let saved = self.device(id).datastore.startup.clone();
        self.device_mut(id).datastore.unconfirmed = None;
        self.live.act(Event { at: Instant::ZERO, device: id, action: Action::Restart });
        let _ = self.configure(id, (*saved).clone());
        let now = self.live.now();
        let state = self.device_mut(id);
        state.indices = Indices::default();
        state.started = now;
    }

    fn tell_changed(&self, id: DeviceId, taken_back: bool) {
        let datastore = &self.device(id).datastore;
        let content = serde_json::json!({
            "zarnet-policy:configuration-changed": {
                "version": datastore.tag(),
                "saved": datastore.running == datastore.startup,
                "taken-back": taken_back,
            },
        });
        self.tell(id, content);
    }

    /// Tells something to all who listen.
    pub(super) fn tell(&self, device: DeviceId, content: Value) {
        let at = self.clock.date(self.live.now());
        let _ = self.events.send(DeviceEvent { device, at, content });
    }
}

/// No traffic.
struct Nothing;

impl zarnet_core::traffic::Batches for Nothing {
    type Error = std::convert::Infallible;

    fn fill(
        &mut self,
        _: &mut Vec<zarnet_core::traffic::Item>,
        _: usize,
    ) -> Option<std::convert::Infallible> {
        None
    }
}

type Question = Box<dyn for<'t> FnOnce(&mut Estate<'t>) + Send>;

/// The way to an estate on its thread.
#[derive(Clone)]
pub(super) struct Engine {
    questions: Sender<Question>,
    pub(super) events: broadcast::Sender<DeviceEvent>,
}

impl Engine {
    /// Starts the thread.
    ///
    /// # Errors
    /// The system gives no thread.
    pub(super) fn start(mut setup: Setup) -> std::io::Result<Self> {
        let (questions, asked) = channel();
        let (events, _) = broadcast::channel(1024);
        let told = events.clone();
        std::thread::Builder::new().name("estate".into()).spawn(move || {
            let log = setup.log.take();
            answer_all(&setup, log, told, &asked);
        })?;
        Ok(Self { questions, events })
    }

    /// Asks the estate, as it is now. `None` if answering failed: that ends this question alone.
    pub(super) async fn ask<T: Send + 'static>(
        &self,
        question: impl for<'t> FnOnce(&mut Estate<'t>) -> T + Send + 'static,
    ) -> Option<T> {
        let (answer, answered) = oneshot::channel();
        let question: Question = Box::new(move |estate| {
            let _ = answer.send(question(estate));
        });
        self.questions.send(question).ok()?;
        answered.await.ok()
    }
}

fn answer_all(
    setup: &Setup,
    log: Option<LogSetup>,
    events: broadcast::Sender<DeviceEvent>,
    asked: &Receiver<Question>,
) {
    let mut estate = Estate::new(setup, events);
    if let Some(log) = log {
        estate.log = Some(Sending::begin(log, setup.begins, &mut estate.live));
    }
    while let Ok(question) = asked.recv() {
        // a fault in one question must not end the device
        let _ = catch_unwind(AssertUnwindSafe(|| {
            estate.catch_up();
            question(&mut estate);
        }));
    }
}
