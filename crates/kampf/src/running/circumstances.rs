//! What a contest's contenders are given and do not choose: how long a trip to the server takes, and where they run.

use std::time::{Duration, Instant};

use kampf_contest::{EngineError, Flow};
use kampf_engine::Engine;
use kampf_runner::{Place, Relay, Setup};
use kampf_schema::ValueRef;

use crate::conditions::{Conditions, TripBy};
use crate::problem::Problem;
use crate::project::Project;
use crate::store::{Dataset, engine_problem};

/// Circumstances as they were arranged. Relays end with this.
pub(crate) struct Circumstances {
    /// How much longer each trip takes.
    trip: Duration,
    relays: Vec<Relay>,
    /// What the relay adds beyond that.
    relay_adds: Option<Duration>,
    core: Option<usize>,
    /// The share of calls that are answered from what is kept, where anybody keeps answers.
    pub(crate) hit_rate: Option<f64>,
}

/// Trips that the relay's own cost is measured with.
const TRIPS: usize = 40;

impl Circumstances {
    /// Arranges them for the contenders of a setup.
    pub(crate) fn arrange(
        project: &Project,
        dataset: &Dataset,
        trip: Duration,
        pin: bool,
        setup: &mut Setup<'_>,
    ) -> Result<Circumstances, Problem> {
        let mut arranged = Circumstances { trip, relays: Vec::new(), relay_adds: None, core: None, hit_rate: None };
        if pin {
            let core = last_core().ok_or_else(|| Problem::surroundings("this system does not let processes be kept on a core"))?;
            if !dataset.served.pin(core) {
                return Err(Problem::wrong("contenders and a server of somebody else's cannot be kept on one core")
                    .hint("leave out `pin`, or use a throwaway server: engine = \"postgres\""));
            }
            setup.core = Some(core);
            arranged.core = Some(core);
        }
        if trip.is_zero() {
            return Ok(arranged);
        }
        if project.engine.trips_are_modelled() {
            setup.simulated_trip = Some(trip);
            return Ok(arranged);
        }
        let direct = setup.place.url.clone();
        let mut places: Vec<&mut Place> = std::iter::once(&mut setup.place).chain(setup.variants.values_mut()).collect();
        arranged.relay(project.engine, places.iter_mut().map(|place| &mut place.url))?;
        arranged.relay(project.engine, places.iter_mut().filter_map(|place| place.tcp_url.as_mut()))?;
        let through = |url: &str| trip_time(project, url).map_err(|error| engine_problem(&error));
        let added = through(&setup.place.url)?.saturating_sub(through(&direct)?);
        arranged.relay_adds = Some(added.saturating_sub(trip));
        Ok(arranged)
    }

    /// Has URLs of one server lead over a relay.
    fn relay<'u>(&mut self, engine: &dyn Engine, urls: impl Iterator<Item = &'u mut String>) -> Result<(), Problem> {
        let mut relay = None;
        for url in urls {
            let relay = match &relay {
                Some(relay) => relay,
                None => {
                    let target =
                        engine.endpoint(url).ok_or_else(|| Problem::surroundings("the server's URL names no place to relay to"))?;
                    let started = Relay::start(&target, self.trip);
                    relay.insert(started.map_err(|error| Problem::surroundings(format!("the relay cannot be started: {error}")))?)
                }
            };
            *url = engine.redirected(url, relay.endpoint());
        }
        self.relays.extend(relay);
        Ok(())
    }

    fn is_simulated(&self) -> bool {
        !self.trip.is_zero() && self.relays.is_empty()
    }

    /// For the result.
    pub(crate) fn conditions(&self) -> Conditions {
        let nanos = |time: Duration| u64::try_from(time.as_nanos()).unwrap_or(u64::MAX);
        let is_longer = !self.trip.is_zero();
        Conditions {
            hit_rate: self.hit_rate,
            transaction: false,
            round_trip_ns: is_longer.then(|| nanos(self.trip)),
            round_trip_by: is_longer.then(|| if self.is_simulated() { TripBy::Simulated } else { TripBy::Relay }),
            relay_adds_ns: self.relay_adds.map(nanos),
            // Contenders go over one of them, the other one is for programs that want TCP.
            trip_held_ns: self.relays.iter().filter_map(Relay::held).max().map(nanos),
            pinned_to_core: self.core.map(|core| core as u64),
        }
    }
}

/// The median time of a statement that asks for nothing.
fn trip_time(project: &Project, url: &str) -> Result<Duration, EngineError> {
    let connection = project.engine.connect(url, &project.settings)?;
    let mut session = connection.session();
    let statement = session.prepare("SELECT 1", &[])?;
    let mut times = Vec::with_capacity(TRIPS);
    for _ in 0..TRIPS {
        let begun = Instant::now();
        session.run(statement, &[], &mut |_: &[ValueRef<'_>]| Flow::More)?;
        times.push(begun.elapsed());
    }
    times.sort();
    Ok(times[TRIPS / 2])
}

/// The last core that this process may use; the first ones serve interrupts more often.
#[cfg(target_os = "linux")]
fn last_core() -> Option<usize> {
    let cores = rustix::thread::sched_getaffinity(None).ok()?;
    (0..rustix::thread::CpuSet::MAX_CPU).rev().find(|&core| cores.is_set(core))
}

#[cfg(not(target_os = "linux"))]
fn last_core() -> Option<usize> {
    None
}
