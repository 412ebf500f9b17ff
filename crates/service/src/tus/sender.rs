//! Who sends: a device, or somebody outside by a link.

use actix_web::{HttpResponseBuilder, http::header::HeaderName};
use ypogeion_core::{DeviceId, LinkId, OriginalId, PersonId};

use crate::{caller::Caller, failure::Answer};

/// The response header that names the original, once it has landed.
const ORIGINAL: HeaderName = HeaderName::from_static("ypogeion-original");

/// Who sends, and where their uploads are.
pub struct Sender {
    /// As which device.
    pub device: DeviceId,
    /// Whose it will be.
    pub person: PersonId,
    /// Below this address.
    pub at: String,
    /// By which link it comes, if it does: it must open still when something lands.
    pub link: Option<LinkId>,
}

impl Sender {
    /// A device, or a program with a password.
    pub fn of(caller: &Caller) -> Answer<Self> {
        let device = caller.device()?;
        Ok(Sender { device: device.id, person: device.person, at: "/tus".to_owned(), link: None })
    }

    /// Tells which original it became. Somebody outside is not told: it would say whether it was here before.
    pub fn tell(&self, response: &mut HttpResponseBuilder, original: Option<OriginalId>) {
        if let (Some(original), None) = (original, self.link) {
            response.insert_header((ORIGINAL, original.to_string()));
        }
    }
}
