//! A model, and workers for it on threads of this process.
// Each test uses a part of it.
#![allow(dead_code)]

use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::thread::JoinHandle;
use std::time::Duration;
use tempfile::TempDir;
use vastrelay_engine::{Engine, GenerationRequest, MemoryReport};
use vastrelay_kernels::thread_pool::Spinning;
use vastrelay_serving::process::Folder;
use vastrelay_serving::worker::protocol::{Ready, TokenTable};
use vastrelay_serving::worker::serve::Over;
use vastrelay_serving::worker::{Connection, Secret, WorkerConfig, WorkerEngine, serve};
use vastrelay_serving::{CoreRequest, Cores, Device, Isa, Model, Plan, Precision, ReplicaSettings, Sizing};
use vastrelay_weights::ModelFiles;

pub const SECRET: Secret = Secret([7; 32]);
/// Longer than any test.
pub const LONG: Duration = Duration::from_secs(600);

pub struct World {
    pub model: Model,
    pub plan: Arc<Plan>,
    folder: Folder,
    _data: TempDir,
}

impl World {
    pub fn new() -> World {
        let model = Model::open(&demo()).unwrap();
        let sizing = Sizing::new(
            &model,
            &ModelFiles::open(&demo()).unwrap(),
            &settings(Device::cpu(1 << 30, Cores::part(1), || usize::MAX)),
            None,
        );
        let plan = sizing.unwrap().plan_on_empty_device().unwrap();
        let data = tempfile::tempdir().unwrap();
        World {
            model,
            plan: Arc::new(plan),
            folder: Folder::open(&data.path().join("workers")).unwrap(),
            _data: data,
        }
    }

    /// Starts a worker.
    pub fn worker(&self) -> JoinHandle<Over> {
        let listener = self.folder.listen("1").unwrap();
        std::thread::spawn(move || serve(&listener, || ()).unwrap())
    }

    pub fn connect(&self) -> UnixStream {
        self.folder.connect("1").unwrap()
    }

    pub fn config(&self) -> WorkerConfig {
        WorkerConfig {
            endpoint: "pierdesk".into(),
            release: 3,
            replica: 1,
            incarnation: 5,
            assignment: self.plan.assignment.clone(),
            taken: self.plan.taken.clone(),
        }
    }

    pub fn words(&self) -> TokenTable {
        TokenTable {
            pieces: self.model.tokenizer.pieces().clone(),
            ends: self.model.defaults.end_ids.clone(),
        }
    }

    pub fn begin(&self) -> WorkerEngine {
        let connection = Connection::open(self.connect(), &SECRET).unwrap();
        assert_eq!(connection.identity.config, None);
        connection.start(self.config(), self.words(), LONG, |_| ()).unwrap()
    }

    /// Returns what a worker says once it has loaded.
    pub fn ready(&self) -> Ready {
        Ready {
            memory: MemoryReport::default(),
            untouched: 0,
            vocabulary: self.model.description.vocabulary,
            limits: self.plan.assignment.limits.clone(),
            started: 0,
            status: Default::default(),
        }
    }

    pub fn engine(&self) -> Engine {
        let (assignment, pieces) = (&self.plan.assignment, self.model.tokenizer.pieces());
        let files = ModelFiles::open(assignment.path()).unwrap();
        let loaded = assignment
            .load(
                &files,
                &self.model.description,
                pieces,
                &[],
                &|_| {},
                &Spinning::default(),
            )
            .unwrap();
        Engine::start(
            loaded.executor,
            pieces.clone(),
            assignment.limits.clone(),
            assignment.build(),
        )
    }

    pub fn request(&self, text: &str, tokens: usize) -> GenerationRequest {
        let ids = self.model.tokenizer.encode(text, false).unwrap();
        GenerationRequest::new(ids, tokens)
    }
}

/// Returns the folder of the demo's model.
pub fn demo() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/models/pierdesk-1")
}

/// Returns small settings.
pub fn settings(device: Device) -> ReplicaSettings {
    ReplicaSettings {
        width: 4,
        step_budget: 64,
        context: Some(256),
        queue_depth: 16,
        queue_wait: None,
        prefill_chunk: None,
        isa: Isa::detect(),
        cores: CoreRequest::Free { least: 1, most: 1 },
        split: 1,
        memory_share: 1.0,
        pages: Some(64),
        typical: None,
        device,
        weights: Precision::AsStored,
        kv: None,
    }
}
