//! What the copies cost: now, over the coming year, and for one full recovery.
//!
//! Prices are the keeper's own, from the contract with the store, in whole units of the currency (0.006 is six tenths of a cent); sums are
//! rounded when they are shown, not before. Gigabytes are 10⁹ bytes, a month is a twelfth of a year of 365 days.

use serde::{Deserialize, Serialize};

/// Bytes in a gigabyte of a price list.
const GIGABYTE: f64 = 1e9;
/// Days in a month of a price list.
const MONTH: f64 = 365.0 / 12.0;

/// Growth is what was taken within so many days.
pub const LOOKED_BACK_DAYS: u16 = 90;

/// What a store asks for. Every price may be zero.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Prices {
    /// The currency's word, as the keeper writes it: `€`, `CHF`.
    pub currency: String,
    /// For a gigabyte that is kept for a month.
    pub storage: f64,
    /// Gigabytes that are kept for nothing.
    pub free_storage: f64,
    /// For a thousand requests that write or list.
    pub writing: f64,
    /// For a thousand requests that read.
    pub reading: f64,
    /// For a gigabyte that is fetched.
    pub egress: f64,
    /// Gigabytes that may be fetched in a month for nothing.
    pub free_egress: f64,
    /// Days that an object is paid for, even if it is removed before.
    pub minimum_days: u16,
    /// For each month, whatever is kept.
    pub fee: f64,
}

/// Why prices cannot be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadPrices {
    /// Below zero, not a number, or beyond all measure.
    #[error("a price is a number from 0 to 1,000,000")]
    Price,
    /// Too long for a currency.
    #[error("a currency is a sign or a word of at most 8 letters")]
    Currency,
    /// More than ten years.
    #[error("a minimum storage time has at most 3,650 days")]
    Days,
}

impl Prices {
    /// Checks what somebody typed.
    pub fn check(self) -> Result<Self, BadPrices> {
        let Prices { storage, free_storage, writing, reading, egress, free_egress, fee, .. } = &self;
        let fine = |p: &f64| (0.0..=1_000_000.0).contains(p);
        match () {
            () if ![storage, free_storage, writing, reading, egress, free_egress, fee].into_iter().all(fine) => {
                Err(BadPrices::Price)
            }
            () if self.currency.chars().count() > 8 || self.currency.chars().any(char::is_control) => Err(BadPrices::Currency),
            () if self.minimum_days > 3650 => Err(BadPrices::Days),
            () => Ok(self),
        }
    }
}

/// What is kept, and what is done with it.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Holdings {
    /// Objects in the store.
    pub objects: u64,
    /// Their sealed bytes.
    pub bytes: u64,
    /// Objects whose pictures were taken within [`LOOKED_BACK_DAYS`]. Not those that came within that time: a first phone or an old disk
    /// brings years at once, and says nothing about the months to come.
    pub new_objects: u64,
    /// Their sealed bytes.
    pub new_bytes: u64,
    /// Every copy is read again within so many days.
    pub cover_days: u32,
    /// Bytes that have been removed, or will be before their minimum storage time has passed, times the days that are still paid for.
    pub early_byte_days: f64,
}

/// What it comes to.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Forecast {
    /// A month of keeping what is there now.
    pub keeping: f64,
    /// A month of reading copies again, as the checks do.
    pub checking: f64,
    /// A month of sending what is new, at the growth of the last ninety days.
    pub sending: f64,
    /// The three together, and the store's fee.
    pub month: f64,
    /// The coming year, with the library growing as it does now.
    pub year: f64,
    /// A month of keeping what will be there in a year.
    pub month_in_a_year: f64,
    /// What is still paid for after it was removed, in sum.
    pub early: f64,
    /// Bringing everything home once.
    pub recovery: f64,
    /// Bytes that come in a month.
    pub growth: u64,
}

/// Works it out.
///
/// ```
/// use ypogeion_core::cost::{Holdings, Prices, forecast};
/// let prices = Prices { storage: 0.006, egress: 0.01, ..Prices::default() };
/// let holds = Holdings { objects: 50_000, bytes: 400_000_000_000, cover_days: 90, ..Holdings::default() };
/// let said = forecast(&prices, &holds);
/// assert!((said.keeping - 2.40).abs() < 1e-9);
/// assert!((said.recovery - 4.00).abs() < 1e-9);
/// ```
pub fn forecast(prices: &Prices, holds: &Holdings) -> Forecast {
    let gigabytes = |bytes: f64| bytes / GIGABYTE;
    let kept = |bytes: f64| (gigabytes(bytes) - prices.free_storage).max(0.0) * prices.storage;
    let fetched = |bytes: f64| (gigabytes(bytes) - prices.free_egress).max(0.0) * prices.egress;
    let thousands = |requests: f64| requests / 1000.0;
    let (bytes, objects) = (holds.bytes as f64, holds.objects as f64);
    let months_seen = f64::from(LOOKED_BACK_DAYS) / MONTH;
    let (growth, new_objects) = (holds.new_bytes as f64 / months_seen, holds.new_objects as f64 / months_seen);
    // A month reads its share of everything, at whatever size the library has by then.
    let share = if holds.cover_days == 0 { 0.0 } else { MONTH / f64::from(holds.cover_days) };
    let checked = |bytes: f64, objects: f64| fetched(bytes * share) + thousands(objects * share) * prices.reading;
    // One request writes it, one asks whether it is there.
    let sending = thousands(new_objects) * (prices.writing + prices.reading);
    let month_at = |months: f64| {
        let (bytes, objects) = (bytes + growth * months, objects + new_objects * months);
        kept(bytes) + checked(bytes, objects) + sending + prices.fee
    };
    let early = gigabytes(holds.early_byte_days / MONTH) * prices.storage;
    Forecast {
        keeping: kept(bytes),
        checking: checked(bytes, objects),
        sending,
        month: month_at(0.0),
        // Each month at its middle.
        year: (0..12).map(|m| month_at(f64::from(m) + 0.5)).sum::<f64>() + early,
        month_in_a_year: month_at(12.0),
        early,
        // All at once, so that the month's free amount counts once; the ledger is small beside it.
        recovery: fetched(bytes) + thousands(objects) * prices.reading,
        growth: growth as u64,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn prices() -> Prices {
        Prices {
            currency: "€".into(),
            storage: 0.01,
            free_storage: 10.0,
            writing: 0.005,
            reading: 0.0004,
            egress: 0.02,
            free_egress: 100.0,
            minimum_days: 90,
            fee: 1.0,
        }
    }

    fn holds() -> Holdings {
        Holdings { objects: 100_000, bytes: 510_000_000_000, cover_days: 365, ..Holdings::default() }
    }

    fn close(a: f64, b: f64) -> bool {
        (a - b).abs() < 1e-6
    }

    #[test]
    fn what_is_free_is_taken_off_once() {
        let said = forecast(&prices(), &holds());
        assert!(close(said.keeping, 5.0), "500 GB above the free ten");
        // A twelfth is read each month: 42.5 GB, below the free hundred; requests cost all the same.
        assert!(close(said.checking, 100_000.0 / 12.0 / 1000.0 * 0.0004), "{said:?}");
        assert!(close(said.recovery, 410.0 * 0.02 + 100.0 * 0.0004));
        assert!(close(said.month, said.keeping + said.checking + said.sending + 1.0));
        assert!(close(said.year, said.month * 12.0), "nothing grows");
        assert!(close(said.month_in_a_year, said.month));
    }

    #[test]
    fn a_library_that_grows_costs_more_each_month() {
        let grows = Holdings { new_bytes: 15_000_000_000, new_objects: 3000, ..holds() };
        let said = forecast(&prices(), &grows);
        let months = 90.0 / MONTH;
        assert_eq!(said.growth, (15e9 / months) as u64);
        assert!(close(said.sending, 3.0 / months * 0.0054));
        assert!(close(said.month_in_a_year - said.month, 12.0 * 15.0 / months * 0.01 + 12.0 * 3.0 / months / 12.0 * 0.0004));
        assert!(said.year > said.month * 12.0 && said.year < said.month_in_a_year * 12.0);
    }

    #[test]
    fn what_is_removed_too_early_is_paid_for_to_its_end() {
        let early = Holdings { early_byte_days: 20e9 * 60.0, ..holds() };
        assert!(close(forecast(&prices(), &early).early, 20.0 * 60.0 / MONTH * 0.01));
    }

    #[rstest]
    #[case(Prices { storage: -1.0, ..prices() }, Some(BadPrices::Price))]
    #[case(Prices { egress: f64::NAN, ..prices() }, Some(BadPrices::Price))]
    #[case(Prices { fee: f64::INFINITY, ..prices() }, Some(BadPrices::Price))]
    #[case(Prices { currency: "doubloons".into(), ..prices() }, Some(BadPrices::Currency))]
    #[case(Prices { minimum_days: 4000, ..prices() }, Some(BadPrices::Days))]
    #[case(prices(), None)]
    fn only_sensible_prices_are_taken(#[case] prices: Prices, #[case] bad: Option<BadPrices>) {
        assert_eq!(prices.check().err(), bad);
    }

    #[test]
    fn an_empty_store_without_prices_costs_nothing() {
        assert_eq!(forecast(&Prices::default(), &Holdings::default()), Forecast::default());
    }
}
