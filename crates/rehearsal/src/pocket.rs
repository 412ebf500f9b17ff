//! A simulated phone with the real engine in it, paired with a house.

use std::{path::Path, sync::Arc};

use chrono::NaiveDateTime;
use ypogeion_agent::{
    backup::{Account, Options, Sent, backup},
    client::{CLIENT, Client},
    home::{Home, Paired, Source},
    platform::Platform,
    room::{RoomAccount, make_room},
};
use ypogeion_core::clearance::RoomRule;
use ypogeion_standins::phone::Phone;
use ypogeion_wire::{pairing::PairingAddress, people::ClaimPairing};

use crate::Step;

/// A phone in somebody's pocket.
pub struct Pocket {
    /// The phone.
    pub phone: Phone,
    platform: Arc<dyn Platform>,
}

impl Pocket {
    /// A new phone, paired by an address that the console showed.
    pub async fn pair(folder: &Path, address: &str, name: &str, storage: u64, clock: NaiveDateTime) -> Step<Self> {
        let phone = Phone::new(folder, storage, clock)?;
        let PairingAddress { at, code, certificate } = PairingAddress::parse(address)?;
        let claim = ClaimPairing { code, device_name: name.into(), device_kind: "phone".into(), client: CLIENT.into() };
        let claimed = Client::new(&at, certificate, None)?.claim(&claim).await?;
        let mut home = Home::open(&phone.device_folder())?;
        home.state.paired = Some(Paired {
            server: at,
            certificate,
            token: claimed.token,
            device: claimed.device,
            household: claimed.household,
            person: claimed.person_name,
        });
        home.state.sources = vec![Source::new("Camera roll", &phone.shown())];
        home.save()?;
        let platform: Arc<dyn Platform> = Arc::new(phone.clone());
        Ok(Pocket { phone, platform })
    }

    /// The engine's own things, for changing its settings.
    pub fn home(&self) -> Step<Home> {
        Ok(Home::open(&self.phone.device_folder())?)
    }

    /// Changes the settings of the engine.
    pub fn set(&self, change: impl FnOnce(&mut Home)) -> Step<()> {
        let mut home = self.home()?;
        change(&mut home);
        Ok(home.save()?)
    }

    /// Runs a backup, by itself or because a person asked.
    pub async fn back_up(&self, asked: bool) -> Step<Account> {
        let (account, _) = self.back_up_counted(asked).await?;
        Ok(account)
    }

    /// The same, with the number of bytes that left the phone.
    pub async fn back_up_counted(&self, asked: bool) -> Step<(Account, u64)> {
        let (home, sent) = (self.home()?, Sent::default());
        let options = Options { asked, ..Options::default() };
        let account = backup(&home, &self.platform, options, &sent, |_| {}).await?;
        Ok((account, sent.load(std::sync::atomic::Ordering::Relaxed)))
    }

    /// Makes room.
    pub async fn make_room(&self, rule: &RoomRule) -> Step<RoomAccount> {
        let (home, today) = (self.home()?, self.phone.clock().date());
        Ok(make_room(&home, rule, self.phone.free()?, today, false, |_| {}).await?)
    }
}
