//! The state that handlers and tasks of the service share. Only [`crate::server`] fills it.

use crate::authority::Authority;
use crate::clock::ServiceClock;
use crate::config::{Config, PublicUrl, ThroughputRule};
use crate::disk::{Disk, Watermarks};
use crate::duty::Duties;
use crate::metrics::Metrics;
use crate::notices::Sending;
use crate::storage::{self, StorageState};
use crate::unpacking::Unpacking;
use itinera_analysis::Limits;
use itinera_analysis::self_alarm::SelfWatch;
use itinera_model::owner::OwnerMap;
use itinera_store::{ImportRecord, Retention, Store, StoreError};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;
use time::OffsetDateTime;
use tokio::sync::{Mutex, Notify, watch};
use uuid::Uuid;

/// State of the service, shared by all handlers and tasks.
#[derive(Debug)]
pub(crate) struct Shared {
    pub(crate) store: Store,
    pub(crate) authority: Authority,
    pub(crate) metrics: Metrics,
    pub(crate) schedule_version: watch::Sender<u64>,
    /// The version of the rules that this process saved last; 0 where it has saved none.
    pub(crate) rules_version: watch::Sender<i64>,
    /// A batch was committed.
    pub(crate) committed: Notify,
    /// An entry was added to the change feed.
    pub(crate) change_added: Notify,
    /// The newest number of the change feed, as read last.
    pub(crate) last_change: watch::Sender<i64>,
    /// Becomes true when the service stops: held requests are let go.
    pub(crate) stop: watch::Sender<bool>,
    /// The service's clock.
    pub(crate) clock: ServiceClock,
    /// How every duty stands.
    pub(crate) duties: Duties,
    /// Limits on how many batches are unpacked at one time.
    pub(crate) unpacking: Unpacking,
    /// The owner map used last, by its import.
    owner_map: Mutex<Option<(Uuid, Arc<OwnerMap>)>>,
    /// Directory of keys.
    pub(crate) data: PathBuf,
    /// Where users reach it through a proxy that ends TLS; absent on this machine alone.
    public_url: Option<PublicUrl>,
    /// What is measured again and again of how much gets through.
    pub(crate) throughput_rules: Vec<ThroughputRule>,
    /// Fixed limits of alarms.
    pub(crate) limits: Limits,
    /// How long measurements are kept.
    pub(crate) retention: Retention,
    /// Free space on the disk below which something waits.
    pub(crate) watermarks: Watermarks,
    /// Megabytes that the database may take, where that is limited.
    pub(crate) database_mb: Option<u32>,
    /// Room on the disk, as seen last.
    pub(crate) disk: watch::Sender<Disk>,
    /// The database is a private cluster below `data`.
    pub(crate) private_cluster: bool,
    /// What sending notices needs.
    pub(crate) sending: Sending,
    /// What was seen lately of how the service stands.
    pub(crate) self_watch: std::sync::Mutex<SelfWatch>,
    /// This process, as holder of leases.
    pub(crate) process: Uuid,
}

/// Makes it the version, if it is a newer one.
fn raise(known: &watch::Sender<u64>, version: u64) {
    known.send_if_modified(|known| {
        let rises = version > *known;
        *known = version.max(*known);
        rises
    });
}

impl Shared {
    /// The state of a service that starts now. `version` is the schedule's, as recorded.
    pub(crate) fn new(
        config: &Config,
        store: Store,
        authority: Authority,
        version: u64,
        clock: ServiceClock,
        sending: Sending,
    ) -> Self {
        Self {
            store,
            authority,
            metrics: Metrics::new(),
            schedule_version: watch::Sender::new(version),
            rules_version: watch::Sender::new(0),
            committed: Notify::new(),
            change_added: Notify::new(),
            last_change: watch::Sender::new(0),
            stop: watch::Sender::new(false),
            clock,
            duties: Duties::default(),
            unpacking: Unpacking::default(),
            owner_map: Mutex::new(None),
            data: config.data.clone(),
            public_url: config.public_url.clone(),
            throughput_rules: config.throughput.clone(),
            limits: config.limits,
            retention: config.retention,
            watermarks: config.watermarks,
            database_mb: config.database_mb,
            disk: watch::Sender::default(),
            private_cluster: config.database.is_none(),
            sending,
            self_watch: std::sync::Mutex::default(),
            process: Uuid::now_v7(),
        }
    }

    /// Room on the disk now.
    pub(crate) async fn storage(&self) -> Result<StorageState, StoreError> {
        let size = self.store.database_size(self.clock.now()).await?;
        let free_bytes = self.free_bytes(size.bytes);
        Ok(StorageState { size, free_bytes })
    }

    /// Bytes by which a database of so many may grow: to what it may take, and on the disk of a private
    /// cluster. Absent where neither is known.
    fn free_bytes(&self, database_bytes: i64) -> Option<u64> {
        let taken = u64::try_from(database_bytes).unwrap_or(0);
        let left = self.database_mb.map(|mb| (u64::from(mb) << 20).saturating_sub(taken));
        let directory = self.private_cluster.then_some(self.data.as_path());
        let on_disk = directory.and_then(storage::free_bytes);
        left.into_iter().chain(on_disk).min()
    }

    /// Looks at the room on the disk.
    pub(crate) async fn look_at_disk(&self) -> Result<(), StoreError> {
        let database_bytes = match self.database_mb {
            Some(_) => self.store.database_bytes().await?,
            None => 0,
        };
        if let Some(free_bytes) = self.free_bytes(database_bytes) {
            let before = self.disk.borrow().room;
            self.disk.send_replace(self.watermarks.look(before, free_bytes));
        }
        Ok(())
    }

    /// Ready once the service stops.
    pub(crate) fn stopped(&self) -> impl Future<Output = ()> + Send + use<> {
        let mut stop = self.stop.subscribe();
        async move {
            let _ready = stop.wait_for(|stop| *stop).await.map(drop);
        }
    }

    /// Whether browsers come by TLS, so that cookies may demand it.
    pub(crate) const fn behind_tls(&self) -> bool {
        self.public_url.is_some()
    }

    /// The host name for users, in addition to the loopback addresses.
    pub(crate) fn public_host(&self) -> Option<String> {
        self.public_url.as_ref().map(|url| url.host.clone())
    }

    /// Lets agents know of a new version of the schedule, where there is one. Versions only rise:
    /// two that are published out of order leave the newer.
    pub(crate) fn tell_agents(&self, version: Option<u64>) {
        if let Some(version) = version {
            raise(&self.schedule_version, version);
        }
    }

    /// The owner map that was valid at a time, with its import; an empty one before the first.
    /// The one used last is kept, since nearly every request asks for it again.
    pub(crate) async fn owner_map_at(
        &self,
        at: OffsetDateTime,
    ) -> Result<(Arc<OwnerMap>, Option<ImportRecord>), StoreError> {
        let Some(import) = self.store.owner_import_at(at).await? else {
            return Ok((Arc::default(), None));
        };
        Ok((self.owner_map_of(import.id).await?, Some(import)))
    }

    async fn owner_map_of(&self, import: Uuid) -> Result<Arc<OwnerMap>, StoreError> {
        let mut kept = self.owner_map.lock().await;
        if let Some((id, map)) = kept.as_ref()
            && *id == import
        {
            return Ok(Arc::clone(map));
        }
        let map = Arc::new(self.store.owner_map(import).await?);
        *kept = Some((import, Arc::clone(&map)));
        Ok(map)
    }

    /// The owner maps of several times, which are looked up at once.
    pub(crate) async fn owner_maps(&self) -> Result<OwnerMaps<'_>, StoreError> {
        let imports = self.store.owner_imports().await?;
        Ok(OwnerMaps { shared: self, imports, known: BTreeMap::new() })
    }
}

/// Owner maps by time.
pub(crate) struct OwnerMaps<'a> {
    shared: &'a Shared,
    /// In the order in which they became valid.
    imports: Vec<ImportRecord>,
    known: BTreeMap<Uuid, Arc<OwnerMap>>,
}

impl OwnerMaps<'_> {
    /// The owner map that was valid at a time; an empty one before the first.
    pub(crate) async fn at(&mut self, time: OffsetDateTime) -> Result<Arc<OwnerMap>, StoreError> {
        let later = self.imports.partition_point(|import| import.valid_from <= time);
        let import = later.checked_sub(1).and_then(|last| self.imports.get(last));
        let Some(import) = import.map(|import| import.id) else { return Ok(Arc::default()) };
        if let Some(map) = self.known.get(&import) {
            return Ok(Arc::clone(map));
        }
        let map = self.shared.owner_map_of(import).await?;
        self.known.insert(import, Arc::clone(&map));
        Ok(map)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_out_of_order_wake_no_agent_twice() {
        let (known, mut waiting) = watch::channel(7);
        for (version, wakes) in [(9, true), (8, false), (9, false), (10, true)] {
            raise(&known, version);
            assert_eq!(waiting.has_changed().unwrap(), wakes, "{version}");
            assert!(*waiting.borrow_and_update() >= version);
        }
    }
}
