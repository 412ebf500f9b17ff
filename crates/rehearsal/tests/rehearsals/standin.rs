//! The stand-in store does what a real one does, and fails when it is told to.

use std::sync::Arc;

use futures_util::TryStreamExt;
use object_store::{
    ClientOptions, GetOptions, GetRange, ObjectStore, ObjectStoreExt, PutMode, PutOptions, PutPayload, RetryConfig,
    WriteMultipart,
    aws::{AmazonS3, AmazonS3Builder, Checksum, S3ConditionalPut},
    path::Path,
};
use ypogeion_standins::faults::Faults;
use ypogeion_standins::store::{Options, StandInStore};

async fn stand_in() -> (StandInStore, tempfile::TempDir) {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let folder = tempfile::tempdir().unwrap();
    let options = Options {
        folder: folder.path().to_owned(),
        bucket: "quay".into(),
        access_key: "AK".into(),
        secret_key: "SK".into(),
        port: 0,
        control_port: 0,
    };
    (StandInStore::start(options).await.unwrap(), folder)
}

fn client(store: &StandInStore, secret: &str) -> AmazonS3 {
    AmazonS3Builder::new()
        .with_endpoint(store.url())
        .with_region("north")
        .with_bucket_name("quay")
        .with_access_key_id("AK")
        .with_secret_access_key(secret)
        .with_checksum_algorithm(Checksum::SHA256)
        .with_conditional_put(S3ConditionalPut::ETagMatch)
        .with_client_options(ClientOptions::new().with_allow_http(true))
        .with_retry(RetryConfig { max_retries: 0, ..RetryConfig::default() })
        .build()
        .unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn it_keeps_lists_ranges_and_deletes() {
    let (store, _folder) = stand_in().await;
    let s3: Arc<dyn ObjectStore> = Arc::new(client(&store, "SK"));
    let name = Path::from("sealed/ab/abc.age");
    s3.put(&name, PutPayload::from_static(b"harbour in fog")).await.unwrap();
    assert_eq!(s3.head(&name).await.unwrap().size, 14);
    let some = s3.get_opts(&name, GetOptions { range: Some(GetRange::Bounded(8..10)), ..GetOptions::default() }).await.unwrap();
    assert_eq!(some.bytes().await.unwrap().as_ref(), b"in");
    let listed: Vec<_> = s3.list(Some(&Path::from("sealed"))).try_collect().await.unwrap();
    assert_eq!(listed.len(), 1);
    s3.delete(&name).await.unwrap();
    assert!(matches!(s3.head(&name).await, Err(object_store::Error::NotFound { .. })));
}

#[tokio::test(flavor = "multi_thread")]
async fn it_takes_large_objects_in_parts() {
    let (store, _folder) = stand_in().await;
    let s3 = client(&store, "SK");
    let name = Path::from("large");
    let mut upload = WriteMultipart::new_with_chunk_size(s3.put_multipart(&name).await.unwrap(), 5 << 20);
    let bytes: Vec<u8> = (0..12_000_000u32).map(|i| (i % 251) as u8).collect();
    upload.write(&bytes);
    upload.finish().await.unwrap();
    assert_eq!(s3.get(&name).await.unwrap().bytes().await.unwrap().as_ref(), bytes);
}

#[tokio::test(flavor = "multi_thread")]
async fn it_checks_signatures_and_conditions() {
    let (store, _folder) = stand_in().await;
    assert!(client(&store, "wrong").put(&Path::from("a"), PutPayload::from_static(b"x")).await.is_err());
    let s3 = client(&store, "SK");
    let only_new = || PutOptions { mode: PutMode::Create, ..PutOptions::default() };
    s3.put_opts(&Path::from("a"), PutPayload::from_static(b"x"), only_new()).await.unwrap();
    let again = s3.put_opts(&Path::from("a"), PutPayload::from_static(b"y"), only_new()).await;
    assert!(matches!(again, Err(object_store::Error::AlreadyExists { .. })), "{again:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn its_faults_come_and_go_while_it_runs() {
    let (store, folder) = stand_in().await;
    let s3 = client(&store, "SK");
    let put = async |name: &str| s3.put(&Path::from(name), PutPayload::from_static(b"sealed bytes")).await;
    for faults in [
        Faults { outage: true, ..Faults::default() },
        Faults { error_percent: 100, ..Faults::default() },
        Faults { cut_percent: 100, ..Faults::default() },
        Faults { full: true, ..Faults::default() },
    ] {
        store.set_faults(faults.clone());
        assert!(put("sealed/a.age").await.is_err(), "{faults:?}");
    }
    // The same through the control address, as the demo's keeper does it.
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let control = format!("http://{}", store.control);
    let set = http.put(format!("{control}/faults")).body(r#"{"latency_ms":1}"#).send().await.unwrap();
    assert!(set.status().is_success());
    put("sealed/a.age").await.unwrap();
    let nonsense = http.put(format!("{control}/faults")).body(r#"{"gremlins":7}"#).send().await.unwrap();
    assert_eq!(nonsense.status(), 400);
    let flipped: Vec<String> =
        serde_json::from_str(&http.post(format!("{control}/flip?objects=1")).send().await.unwrap().text().await.unwrap())
            .unwrap();
    assert_eq!(flipped, ["quay/sealed/a.age"]);
    assert_ne!(std::fs::read(folder.path().join("quay/sealed/a.age")).unwrap(), b"sealed bytes");
    let lost = http.post(format!("{control}/lose?objects=1")).send().await.unwrap().text().await.unwrap();
    assert!(lost.contains("a.age") && !folder.path().join("quay/sealed/a.age").exists());
}
