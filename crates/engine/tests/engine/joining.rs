//! Uploads that are put together.

use uuid::Uuid;
use ypogeion_core::UploadId;
use ypogeion_engine::joining::Concat;

#[test]
fn parts_are_named_by_address_or_path() {
    let (a, b) = (Uuid::from_u128(1), Uuid::from_u128(2));
    let ids = vec![UploadId(a), UploadId(b)];
    for text in [format!("final;/tus/{a} /tus/{b}"), format!("final;https://attic:8743/tus/{a} http://x/tus/{b}")] {
        assert_eq!(Concat::parse(&text).unwrap(), Concat::Final(ids.clone()));
    }
    assert_eq!(Concat::parse("partial").unwrap(), Concat::Partial);
    for wrong in ["", "final", "final;", "final;/etc/passwd", "final;/tus/../x", "final;/tus/nonsense", "half"] {
        assert!(Concat::parse(wrong).is_err(), "{wrong}");
    }
}
