//! What the agent may do on this machine: which capabilities it needs, whether it has them, and
//! how it gets rid of them.

use rustix::io;
use rustix::thread::{CapabilitySet, CapabilitySets};
use serde::Serialize;
use std::path::Path;

/// Something the agent can do here, or not.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Ability {
    /// What.
    pub name: &'static str,
    /// Whether it can.
    pub has: bool,
    /// What it is good for.
    pub used_for: &'static str,
    /// The command that would grant it; absent when it is there, or nothing can.
    pub grant: Option<String>,
}

/// Finds out what this program can do here, by trying.
pub fn abilities() -> Vec<Ability> {
    let program = std::env::current_exe().unwrap_or_default();
    let program = program.display();
    let ability = |name, has, used_for, grant: Option<String>| Ability {
        name,
        has,
        used_for,
        grant: grant.filter(|_| !has),
    };
    let raw = crate::RawSockets::open(None);
    let stamps = raw.as_ref().is_ok_and(crate::RawSockets::are_stamped);
    let six = raw.as_ref().is_ok_and(crate::RawSockets::have_six);
    let setcap = format!("setcap cap_net_raw+ep {program}");
    vec![
        ability(
            "raw sockets (CAP_NET_RAW)",
            raw.is_ok(),
            "probing by every method, reading answers fully",
            Some(setcap),
        ),
        ability("IPv6", six, "probing over IPv6", None),
        ability("kernel stamps", stamps, "delays exact to some microseconds", None),
        ability(
            "echo without privilege",
            crate::link::may_echo(),
            "probing by echo and UDP where there are no raw sockets",
            Some("sysctl -w net.ipv4.ping_group_range=\"0 2147483647\"".to_owned()),
        ),
    ]
}

/// Gives up every capability, for good: sockets that are open stay open. Has to be called before
/// other threads are made, since capabilities are each thread's own.
///
/// # Errors
/// The kernel's word.
pub fn drop_capabilities() -> io::Result<()> {
    rustix::thread::set_no_new_privs(true)?;
    let none = CapabilitySet::empty();
    let sets = CapabilitySets { effective: none, permitted: none, inheritable: none };
    rustix::thread::set_capabilities(None, sets)
}

/// A service unit (systemd.service(5)) that runs the agent with the least it needs.
pub fn unit(program: &Path, data: &Path) -> String {
    let (program, data) = (program.display(), data.display());
    // Everything else is read-only to it.
    format!(
        "[Unit]\n\
         Description=Itinera agent\n\
         Wants=network-online.target\n\
         After=network-online.target\n\
         \n\
         [Service]\n\
         ExecStart={program} agent run --data {data}\n\
         Restart=on-failure\n\
         RestartSec=5\n\
         DynamicUser=yes\n\
         StateDirectory=itinera-agent\n\
         ReadWritePaths={data}\n\
         AmbientCapabilities=CAP_NET_RAW\n\
         CapabilityBoundingSet=CAP_NET_RAW\n\
         NoNewPrivileges=yes\n\
         ProtectSystem=strict\n\
         ProtectHome=yes\n\
         PrivateTmp=yes\n\
         PrivateDevices=yes\n\
         ProtectKernelTunables=yes\n\
         ProtectControlGroups=yes\n\
         RestrictAddressFamilies=AF_INET AF_INET6 AF_UNIX AF_NETLINK\n\
         RestrictNamespaces=yes\n\
         LockPersonality=yes\n\
         MemoryDenyWriteExecute=yes\n\
         SystemCallFilter=@system-service\n\
         MemoryMax=128M\n\
         \n\
         [Install]\n\
         WantedBy=multi-user.target\n"
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sockets_stay_open_when_capabilities_are_gone() {
        // A thread of its own: what it gives up is its own.
        let outcome = std::thread::spawn(|| {
            let before = crate::RawSockets::open(None);
            drop_capabilities().unwrap();
            let after = crate::RawSockets::open(None);
            (before.is_ok(), after.unwrap_err().to_string())
        });
        let (before, after) = outcome.join().unwrap();
        assert!(before && after.contains("setcap cap_net_raw+ep"), "{after}");
    }

    #[test]
    fn the_unit_lets_the_agent_write_to_its_directory() {
        let unit = unit(Path::new("/opt/itinera"), Path::new("/srv/agent"));
        for line in [
            "ExecStart=/opt/itinera agent run --data /srv/agent",
            "ReadWritePaths=/srv/agent",
            "CapabilityBoundingSet=CAP_NET_RAW",
        ] {
            assert!(unit.lines().any(|written| written == line), "{line}: {unit}");
        }
    }

    #[test]
    fn every_ability_that_is_missing_names_its_command() {
        let abilities = std::thread::spawn(|| {
            drop_capabilities().unwrap();
            abilities()
        });
        let abilities = abilities.join().unwrap();
        let raw = &abilities[0];
        assert!(!raw.has && raw.grant.as_ref().unwrap().starts_with("setcap cap_net_raw+ep "));
        assert!(abilities.iter().all(|ability| !ability.used_for.is_empty()));
    }
}
