//! Passwords, codes, and the files with the keys.

use std::fs;

use ypogeion_engine::{
    keys::{in_text, own, read_file, write_file},
    secrets::{NOBODYS_HASH, hash_password, pairing_code, spoken, verify_password},
};
use ypogeion_offsite::Identity;

#[test]
fn passwords_are_kept_as_hashes_and_recognised() {
    let hash = hash_password("kite festival").unwrap();
    assert!(hash.starts_with("$argon2id$") && verify_password("kite festival", &hash));
    assert!(!verify_password("kite festivaL", &hash) && !verify_password("kite festival", "nonsense"));
    assert!(hash_password("short").unwrap_err().to_string().contains("at least 10"));
    assert!(!verify_password("kite festival", NOBODYS_HASH) && NOBODYS_HASH.starts_with("$argon2id$"));
}

#[test]
fn codes_survive_being_typed() {
    for _ in 0..50 {
        let code = pairing_code();
        assert_eq!(code.len(), 8);
        assert_eq!(ypogeion_wire::pairing::normalise_code(&spoken(&code).to_lowercase()), code);
    }
}

#[test]
fn a_key_file_reads_back_and_tells_people_what_it_is() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("household.key");
    let (one, two) = (Identity::generate(), Identity::generate());
    write_file(&file, &[one.clone(), two]).unwrap();
    let read = read_file(&file).unwrap();
    assert_eq!((read.len(), read[0].reveal()), (2, one.reveal()));
    write_file(&file, &[]).unwrap();
    assert!(read_file(&file).unwrap().is_empty() && fs::read_to_string(&file).unwrap().contains("keeps none"));
    // As earlier versions wrote it.
    fs::write(&file, format!("{}\n", one.reveal())).unwrap();
    assert_eq!(read_file(&file).unwrap()[0].reveal(), one.reveal());
    fs::write(&file, "nonsense\n").unwrap();
    assert!(read_file(&file).is_err());
    let kit = format!("Key: {}\nOlder key:  {}\nLedger key: 07", one.reveal(), Identity::generate().reveal());
    assert_eq!((in_text(&kit).unwrap().len(), in_text(&one.reveal()).unwrap()[0].reveal()), (2, one.reveal()));
    assert!(in_text("AGE-SECRET-KEY-1NONSENSE").is_err() && in_text("a shopping list").unwrap().is_empty());
    let own_file = folder.path().join("server.key");
    assert_eq!(own(&own_file).unwrap().reveal(), own(&own_file).unwrap().reveal(), "made once");
}
