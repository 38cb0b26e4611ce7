//! A circumstance is arranged: how long a trip to the server takes, how much is answered from what is kept, and where contenders run.

use std::time::{Duration, Instant};

use kampf_contest::{EngineError, Flow};
use kampf_engine::{Engine, ONE_ROW_CHANGES};
use kampf_result::{Arranged, Circumstance, TripBy};
use kampf_runner::{Place, Relay, Setup};
use kampf_schema::ValueRef;

use crate::problem::Problem;
use crate::project::Project;
use crate::store::{Dataset, engine_problem};

/// A circumstance as it was arranged. Relays end with this.
pub(crate) struct Arrangement {
    relays: Vec<Relay>,
    found: Arranged,
}

/// Trips that the relay's own cost is measured with.
const TRIPS: usize = 40;

impl Arrangement {
    /// Arranges a circumstance for the contenders of a setup.
    pub(crate) fn of(given: &Circumstance, project: &Project, dataset: &Dataset, setup: &mut Setup<'_>) -> Result<Arrangement, Problem> {
        let mut arranged = Arrangement { relays: Vec::new(), found: Arranged::default() };
        if let Some(rate) = given.hit_rate {
            setup.hit_rate = rate;
        }
        if given.is_pinned {
            let core = last_core().ok_or_else(|| Problem::surroundings("this system does not let processes be kept on a core"))?;
            let is_kept = setup.scratch.map_or_else(|| dataset.served.pin(core), |on| on.scratch.pin(core));
            if !is_kept {
                return Err(Problem::wrong("contenders and a server of somebody else's cannot be kept on one core")
                    .hint("leave out `pin`, or use a throwaway server: engine = \"postgres\""));
            }
            setup.core = Some(core);
            arranged.found.core = Some(core as u64);
        }
        if let Some(on) = setup.scratch {
            arranged.found.durable = Some(on.durable);
            let commit = commit_time(project, on.scratch.own_url(), on.durable).map_err(|error| engine_problem(&error))?;
            arranged.found.commit_ns = Some(nanos(commit));
        }
        let Some(trip) = given.trip else { return Ok(arranged) };
        let longer = Duration::from_nanos(trip.ns);
        if trip.by == TripBy::Simulated {
            setup.simulated_trip = Some(longer);
            return Ok(arranged);
        }
        let direct = setup.place.url.clone();
        let mut places: Vec<&mut Place> = std::iter::once(&mut setup.place).chain(setup.variants.values_mut()).collect();
        arranged.relay(project.engine, longer, places.iter_mut().map(|place| &mut place.url))?;
        arranged.relay(project.engine, longer, places.iter_mut().filter_map(|place| place.tcp_url.as_mut()))?;
        let through = |url: &str| trip_time(project, url).map_err(|error| engine_problem(&error));
        let added = through(&setup.place.url)?.saturating_sub(through(&direct)?);
        arranged.found.relay_adds_ns = Some(nanos(added.saturating_sub(longer)));
        Ok(arranged)
    }

    /// Has URLs of one server lead over a relay.
    fn relay<'u>(&mut self, engine: &dyn Engine, longer: Duration, urls: impl Iterator<Item = &'u mut String>) -> Result<(), Problem> {
        let mut relay = None;
        for url in urls {
            let relay = match &relay {
                Some(relay) => relay,
                None => {
                    let target =
                        engine.endpoint(url).ok_or_else(|| Problem::surroundings("the server's URL names no place to relay to"))?;
                    let started = Relay::start(&target, longer);
                    relay.insert(
                        started.map_err(|error| Problem::surroundings(format!("the relay cannot be started: {error}")).because(error))?,
                    )
                }
            };
            *url = engine.redirected(url, relay.endpoint());
        }
        self.relays.extend(relay);
        Ok(())
    }

    /// What was found of it, until now.
    pub(crate) fn found(&self) -> Arranged {
        // Contenders go over one of the relays, the other one is for programs that want TCP.
        Arranged { trip_held_ns: self.relays.iter().filter_map(Relay::held).max().map(nanos), ..self.found }
    }
}

fn nanos(time: Duration) -> u64 {
    u64::try_from(time.as_nanos()).unwrap_or(u64::MAX)
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

/// The median time of a commit of one changed row, as it waits for the disk. The row is of a table that every scratch has: an engine may not write
/// at all what becomes what it is.
fn commit_time(project: &Project, url: &str, durable: bool) -> Result<Duration, EngineError> {
    let connection = project.engine.connect_scratch(url, &project.settings, durable, None)?;
    let mut session = connection.session();
    let statement = session.prepare(ONE_ROW_CHANGES, &[])?;
    let mut times = Vec::with_capacity(COMMITS);
    for _ in 0..COMMITS {
        let begun = Instant::now();
        session.run(statement, &[], &mut |_: &[ValueRef<'_>]| Flow::More)?;
        times.push(begun.elapsed());
    }
    times.sort();
    Ok(times[COMMITS / 2])
}

/// Commits that are timed.
const COMMITS: usize = 15;

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
