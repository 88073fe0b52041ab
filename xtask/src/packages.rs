//! Debian packages that a chore needs, installed where they are missing.

use crate::command::{run_quietly, say};
use anyhow::{Context, Result, bail};
use std::path::Path;

/// A package, and how to see that what we need of it is there.
pub(crate) struct Package {
    name: &'static str,
    is_there: fn() -> bool,
}

const POSTGRESQL: Package = Package {
    name: "postgresql",
    is_there: || {
        let versions = std::fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten();
        versions.map(|version| version.path().join("bin/postgres")).any(|server| server.exists())
    },
};
const IPROUTE: Package = Package { name: "iproute2", is_there: || on_path("ip") };
const NFTABLES: Package = Package { name: "nftables", is_there: || on_path("nft") };
const PROCPS: Package = Package { name: "procps", is_there: || on_path("sysctl") };
/// Real servers of many protocols, of which none is started by being installed.
const SERVERS: Package = Package {
    name: "python3-twisted",
    is_there: || Path::new("/usr/lib/python3/dist-packages/twisted").exists(),
};
const CHROMIUM: Package = Package { name: "chromium", is_there: || on_path("chromium") };
const DRIVER: Package = Package { name: "chromium-driver", is_there: || on_path("chromedriver") };

pub(crate) const DEMONSTRATION: [Package; 1] = [POSTGRESQL];
pub(crate) const TESTS: [Package; 7] =
    [POSTGRESQL, IPROUTE, NFTABLES, PROCPS, SERVERS, CHROMIUM, DRIVER];

fn on_path(program: &str) -> bool {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let system = ["/usr/sbin", "/sbin"].map(Into::into);
    std::env::split_paths(&path).chain(system).any(|directory| directory.join(program).exists())
}

/// Installs the packages that are missing.
pub(crate) fn ensure(packages: &[Package]) -> Result<()> {
    let missing: Vec<&str> = packages
        .iter()
        .filter(|package| !(package.is_there)())
        .map(|package| package.name)
        .collect();
    if missing.is_empty() {
        return Ok(());
    }
    let list = missing.join(" ");
    if !rustix::process::geteuid().is_root() || !Path::new("/usr/bin/apt-get").exists() {
        bail!("missing: {list}; install them first, for example: apt-get install {list}");
    }
    say(&format!("Installing {list} from Debian's packages ..."));
    run_quietly("apt-get", &["update"]).context("refreshing the package lists")?;
    let mut arguments = vec!["install", "--yes", "--no-install-recommends"];
    arguments.extend(&missing);
    run_quietly("apt-get", &arguments).with_context(|| format!("installing {list}"))
}
