//! What the engine wants to know of the machine it runs on. Linux is here; a phone, real or simulated, brings its own.

use std::{
    fs,
    net::{IpAddr, Ipv4Addr, ToSocketAddrs},
    path::{Path, PathBuf},
};

use chrono::Local;
use url::{Host, Url};
use ypogeion_core::condition::{Network, Readings};

/// The machine.
pub trait Platform: Send + Sync {
    /// What the conditions are checked against, as it is now, for a service at `server`.
    fn readings(&self, server: &Url) -> Readings;

    /// The device's own clock.
    fn clock(&self) -> chrono::NaiveDateTime {
        Local::now().naive_local()
    }
}

/// A computer with Linux.
#[derive(Clone, Debug)]
pub struct Linux {
    root: PathBuf,
}

impl Default for Linux {
    fn default() -> Self {
        Linux { root: PathBuf::from("/") }
    }
}

impl Linux {
    /// One whose `/sys` and `/proc` lie below `root`, for tests.
    pub fn at(root: &Path) -> Self {
        Linux { root: root.to_owned() }
    }

    fn text(&self, path: impl AsRef<Path>) -> Option<String> {
        fs::read_to_string(self.root.join(path)).ok().map(|t| t.trim().to_owned())
    }

    /// Battery level and whether it charges, by the kernel's power supply class. Several batteries: the fullest counts.
    fn power(&self) -> (Option<u8>, Option<bool>) {
        let (mut level, mut charging, mut mains) = (None, None, None);
        for supply in fs::read_dir(self.root.join("sys/class/power_supply")).into_iter().flatten().flatten() {
            let read = |name: &str| fs::read_to_string(supply.path().join(name)).ok().map(|t| t.trim().to_owned());
            // The battery of a mouse or a headset is not this computer's.
            if read("scope").as_deref() == Some("Device") {
                continue;
            }
            match read("type").as_deref() {
                Some("Battery") => {
                    level = level.max(read("capacity").and_then(|c| c.parse::<u8>().ok()).map(|c| c.min(100)));
                    let status = read("status");
                    charging = Some(
                        charging.unwrap_or(false) || matches!(status.as_deref(), Some("Charging" | "Full" | "Not charging")),
                    );
                }
                Some("Mains" | "USB") => mains = Some(mains.unwrap_or(false) || read("online").as_deref() == Some("1")),
                _ => {}
            }
        }
        // A full battery on the mains may say "Discharging" for a moment; the mains know better.
        (level, mains.filter(|m| *m).or(charging))
    }

    /// The interface over which an address is reached, and whether it is reached without a router.
    fn route(&self, to: Ipv4Addr) -> Option<(String, bool)> {
        let table = self.text("proc/net/route")?;
        let number = |text: &str| u32::from_str_radix(text, 16).ok().map(u32::from_be);
        let to = u32::from(to);
        table
            .lines()
            .skip(1)
            .filter_map(|line| {
                let fields: Vec<&str> = line.split_whitespace().collect();
                let (interface, destination) = (fields.first()?, number(fields.get(1)?)?);
                let (gateway, mask) = (number(fields.get(2)?)?, number(fields.get(7)?)?);
                (to & mask == destination).then(|| (mask.count_ones(), (*interface).to_owned(), gateway == 0))
            })
            .max_by_key(|(length, _, _)| *length)
            .map(|(_, interface, direct)| (interface, direct))
    }

    fn kind_of(&self, interface: &str) -> Network {
        let folder = self.root.join("sys/class/net").join(interface);
        let wireless_wide = ["ww", "ppp", "rmnet", "usb"].iter().any(|p| interface.starts_with(p));
        match () {
            () if folder.join("wireless").exists() || folder.join("phy80211").exists() => Network::Wifi,
            () if wireless_wide => Network::Mobile,
            () => Network::Wired,
        }
    }
}

impl Platform for Linux {
    fn readings(&self, server: &Url) -> Readings {
        let (battery, charging) = self.power();
        let (network, at_home) = match address_of(server) {
            // On this very machine: no network is needed.
            Some(ip) if ip.is_loopback() => (Network::Wired, Some(true)),
            Some(IpAddr::V4(ip)) => match self.route(ip) {
                Some((interface, direct)) => (self.kind_of(&interface), Some(direct)),
                None => (Network::None, None),
            },
            // Whatever is up will do for IPv6; whether that is home cannot be told.
            Some(IpAddr::V6(_)) => (Network::Wired, None),
            None => (Network::None, None),
        };
        Readings { battery, charging, network, metered: None, at_home, clock: self.clock() }
    }
}

fn address_of(server: &Url) -> Option<IpAddr> {
    match server.host()? {
        Host::Ipv4(ip) => Some(ip.into()),
        Host::Ipv6(ip) => Some(ip.into()),
        Host::Domain(name) => {
            let found: Vec<IpAddr> =
                (name, server.port_or_known_default().unwrap_or(443)).to_socket_addrs().ok()?.map(|a| a.ip()).collect();
            found.iter().find(|ip| ip.is_ipv4()).or(found.first()).copied()
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn write(root: &Path, path: &str, text: &str) {
        let path = root.join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    /// Routes as the kernel prints them: a default one over wlan0 and the home network 192.168.7.0/24 directly.
    const ROUTES: &str = "Iface\tDestination\tGateway \tFlags\tRefCnt\tUse\tMetric\tMask\t\tMTU\tWindow\tIRTT\n\
        wlan0\t00000000\t0107A8C0\t0003\t0\t0\t600\t00000000\t0\t0\t0\n\
        wlan0\t0007A8C0\t00000000\t0001\t0\t0\t600\t00FFFFFF\t0\t0\t0\n";

    fn server(text: &str) -> Url {
        Url::parse(text).unwrap()
    }

    #[test]
    fn a_laptop_on_its_sofa_is_understood() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path();
        write(root, "sys/class/power_supply/BAT0/type", "Battery\n");
        write(root, "sys/class/power_supply/BAT0/capacity", "47\n");
        write(root, "sys/class/power_supply/BAT0/status", "Discharging\n");
        write(root, "sys/class/power_supply/AC/type", "Mains\n");
        write(root, "sys/class/power_supply/AC/online", "0\n");
        write(root, "sys/class/power_supply/mouse/type", "Battery\n");
        write(root, "sys/class/power_supply/mouse/scope", "Device\n");
        write(root, "sys/class/power_supply/mouse/capacity", "99\n");
        write(root, "sys/class/net/wlan0/wireless/x", "");
        write(root, "proc/net/route", ROUTES);
        let now = Linux::at(root).readings(&server("https://192.168.7.20:8743/"));
        assert_eq!((now.battery, now.charging, now.network, now.at_home), (Some(47), Some(false), Network::Wifi, Some(true)));
        let away = Linux::at(root).readings(&server("https://203.0.113.9:8743/"));
        assert_eq!((away.network, away.at_home), (Network::Wifi, Some(false)));
        write(root, "sys/class/power_supply/AC/online", "1\n");
        assert_eq!(Linux::at(root).readings(&server("https://192.168.7.20/")).charging, Some(true));
    }

    #[test]
    fn a_machine_that_says_nothing_has_no_network_and_no_battery() {
        let folder = tempfile::tempdir().unwrap();
        let now = Linux::at(folder.path()).readings(&server("https://192.168.7.20:8743/"));
        assert_eq!((now.battery, now.charging, now.network), (None, None, Network::None));
        let same = Linux::at(folder.path()).readings(&server("http://127.0.0.1:8740/"));
        assert_eq!((same.network, same.at_home), (Network::Wired, Some(true)), "the service is on this machine");
    }
}
