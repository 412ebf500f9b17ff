//! Under which name a browser keeps what it is handed.

use actix_web::http::header::{Charset, ContentDisposition, DispositionParam, DispositionType, ExtendedValue};

/// To be kept as a file of this name, or, with `shown`, to be looked at in the browser.
pub fn disposition(name: String, shown: bool) -> ContentDisposition {
    let name = ExtendedValue { charset: Charset::Ext("UTF-8".into()), language_tag: None, value: name.into_bytes() };
    ContentDisposition {
        disposition: if shown { DispositionType::Inline } else { DispositionType::Attachment },
        parameters: vec![DispositionParam::FilenameExt(name)],
    }
}
