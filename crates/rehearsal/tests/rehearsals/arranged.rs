//! Albums in an order that somebody gives them, with words between their pictures.

use fantoccini::{Locator, key::Key};
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_rehearsal::{browser::Browser, house::Console, wait_for};

use crate::links::{Album, Outside, album};

async fn shown(who: &Console, album: &str) -> (Vec<String>, Value) {
    let all = who.ask(Method::GET, &format!("api/albums/{album}/arrangement"), None).await.unwrap();
    let step = |s: &Value| s["words"].as_str().or(s["picture"]["name"].as_str()).unwrap().to_owned();
    (all["steps"].as_array().unwrap().iter().map(step).collect(), all["version"].clone())
}

impl Album {
    async fn arrange(&self, who: &Console, form: Value) -> (u16, Value) {
        who.try_ask(Method::PUT, &format!("api/albums/{}/arrangement", self.id), Some(form)).await.unwrap()
    }

    fn step(&self, n: usize) -> Value {
        json!({ "picture": self.pictures[n] })
    }
}

fn words(text: &str) -> Value {
    json!({ "words": text })
}

#[tokio::test(flavor = "multi_thread")]
async fn an_album_is_shown_as_its_owner_arranged_it() {
    let a = album().await;
    let juno = &a.w.keeper;
    // Before that, as it was taken; Piet's is in it, too.
    assert_eq!(
        shown(juno, &a.id).await,
        (["IMG_0000.jpg", "IMG_0001.jpg", "IMG_0002.jpg", "IMG_0008.jpg"].map(str::to_owned).into(), Value::Null)
    );
    let steps = json!([words(" At the weir \r\nin April "), a.step(2), words(" \n "), a.step(0), a.step(2), words("The end")]);
    assert_eq!(a.arrange(juno, json!({ "steps": steps, "version": null })).await.0, 204);
    let told =
        ["At the weir \nin April", "IMG_0002.jpg", "IMG_0000.jpg", "The end", "IMG_0001.jpg", "IMG_0008.jpg"].map(str::to_owned);
    let (steps, version) = shown(juno, &a.id).await;
    assert_eq!(steps, told, "what is not named comes behind");
    let album = juno.ask(Method::GET, &format!("api/albums/{}", a.id), None).await.unwrap();
    assert_eq!((&album["arranged"], &album["pictures"]), (&json!(true), &json!(4)));
    // Who does not see it, sees nothing of that; who sees it, sees it so, and does not change it.
    let path = format!("api/albums/{}/arrangement", a.id);
    assert_eq!(a.piet.try_ask(Method::GET, &path, None).await.unwrap().0, 404);
    assert_eq!(a.arrange(&a.piet, json!({ "steps": [], "version": null })).await.0, 404);
    juno.ask(Method::PATCH, &format!("api/albums/{}", a.id), Some(json!({ "household": "add" }))).await.unwrap();
    assert_eq!(shown(&a.piet, &a.id).await, (told.clone().into(), version.clone()));
    assert_eq!(a.arrange(&a.piet, json!({ "steps": [], "version": version })).await.0, 403);
    // In another window it was arranged otherwise: nothing is overwritten, and that is said.
    for version in [Value::Null, json!("of long ago")] {
        let (status, said) = a.arrange(juno, json!({ "steps": [], "version": version })).await;
        assert!(status == 409 && said["detail"].as_str().unwrap().contains("in another window"), "{status} {said}");
    }
    assert_eq!(shown(juno, &a.id).await.1, version);
    // Two at once from the same state: one of them.
    let both = (json!({ "steps": [a.step(1)], "version": version }), json!({ "steps": [a.step(0)], "version": version }));
    let (one, other) = tokio::join!(a.arrange(juno, both.0), a.arrange(juno, both.1));
    assert_eq!([one.0, other.0].iter().filter(|s| **s == 204).count(), 1, "{one:?} {other:?}");
    let version = shown(juno, &a.id).await.1;
    // A picture that is deleted is not shown, and is at its place when it is brought back.
    let steps = json!([a.step(1), words("between"), a.step(0)]);
    assert_eq!(a.arrange(juno, json!({ "steps": steps, "version": version })).await.0, 204);
    let held = json!({ "originals": [a.pictures[1]] });
    juno.ask(Method::POST, "api/holding", Some(held.clone())).await.unwrap();
    assert_eq!(shown(juno, &a.id).await.0[..2], ["between".to_owned(), "IMG_0000.jpg".to_owned()]);
    juno.ask(Method::POST, "api/holding/back", Some(held)).await.unwrap();
    assert_eq!(shown(juno, &a.id).await.0[..2], ["IMG_0001.jpg".to_owned(), "between".to_owned()]);
    // What is too much, or makes no sense.
    let version = shown(juno, &a.id).await.1;
    let many: Vec<Value> = (0..2001).map(|_| words("x")).collect();
    for steps in [json!(many), json!([words(&"x".repeat(2001))]), json!(vec![words(&"x".repeat(2000)); 26])] {
        assert_eq!(a.arrange(juno, json!({ "steps": steps, "version": version })).await.0, 413);
    }
    for form in [json!({ "steps": [{ "picture": "nothing" }] }), json!({ "steps": "all" }), json!([])] {
        assert_eq!(a.arrange(juno, form).await.0, 400);
    }
    let (steps, still) = shown(juno, &a.id).await;
    assert_eq!((still, steps[1].as_str()), (version.clone(), "between"));
    // By time again.
    assert_eq!(a.arrange(juno, json!({ "steps": null, "version": version })).await.0, 204);
    assert_eq!(shown(juno, &a.id).await.1, Value::Null);
}

#[tokio::test(flavor = "multi_thread")]
async fn by_a_link_it_is_shown_in_its_order_too() {
    let a = album().await;
    let link = a.link(json!({ "days": 7, "hands_out": "previews" })).await;
    let o = Outside::open(&a.w, &link, None).await;
    assert_eq!(Outside::names(&o.sees().await), ["IMG_0002.jpg", "IMG_0001.jpg", "IMG_0000.jpg"]);
    let steps = json!([a.step(1), words("between"), words("and on"), a.step(0), words("the end")]);
    assert_eq!(a.arrange(&a.w.keeper, json!({ "steps": steps, "version": null })).await.0, 204);
    let page = o.sees().await;
    assert_eq!(Outside::names(&page), ["IMG_0001.jpg", "IMG_0000.jpg", "IMG_0002.jpg"], "Piet's is his to show");
    let before: Vec<&Value> = page["pictures"].as_array().unwrap().iter().map(|p| &p["words_before"]).collect();
    assert_eq!(before, [&Value::Null, &json!("between\n\nand on"), &json!("the end")]);
    assert_eq!((&page["next"], &page["words_after"]), (&Value::Null, &Value::Null));
    let steps = json!([a.step(1), a.step(0), a.step(2), words("the end")]);
    let version = shown(&a.w.keeper, &a.id).await.1;
    assert_eq!(a.arrange(&a.w.keeper, json!({ "steps": steps, "version": version })).await.0, 204);
    assert_eq!(o.sees().await["words_after"], "the end");
    let phone = Browser::start(390, 844).await.unwrap();
    phone
        .page
        .goto(
            a.w.house
                .http
                .join(&format!("shared#{}", link["address"].as_str().unwrap().split_once('#').unwrap().1))
                .unwrap()
                .as_str(),
        )
        .await
        .unwrap();
    phone.wait_for_text("the end").await.unwrap();
    let order = "return [...document.querySelectorAll('#pictures li:not(.rest)')].map(li => li.className || li.querySelector('button').getAttribute('aria-label'))";
    assert_eq!(
        phone.page.execute(order, vec![]).await.unwrap(),
        json!(["IMG_0001.jpg", "IMG_0000.jpg", "IMG_0002.jpg", "words"])
    );
    assert_eq!(phone.barriers().await.unwrap(), Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn it_is_arranged_in_the_console_with_mouse_and_keys() {
    let a = album().await;
    for (width, height) in [(1280, 800), (390, 844)] {
        let browser = Browser::start(width, height).await.unwrap();
        browser.sign_in(&a.w.house.http, "Juno", &a.w.house.options.keeper.1).await.unwrap();
        browser.page.goto(a.w.house.http.join(&format!("albums/{}", a.id)).unwrap().as_str()).await.unwrap();
        browser.click("Edit …").await.unwrap();
        browser.click("Arrange it").await.unwrap();
        browser.wait_for_text("Drag a picture to its place").await.unwrap();
        browser.wait("ol li:nth-child(4)").await.unwrap();
        assert_eq!(browser.barriers().await.unwrap(), Vec::<String>::new());
        let over = browser.page.execute("return document.documentElement.scrollWidth - innerWidth", vec![]).await.unwrap();
        assert!(over.as_i64().unwrap() <= 0, "{over} pixels too wide");
        if width == 390 {
            browser.click("Cancel").await.unwrap();
            browser.wait_for_text("By time").await.unwrap();
            continue;
        }
        // By its arrow, by a key on its handle, and words behind it.
        browser.page.find(Locator::Css("button[aria-label='IMG_0000.jpg: one down']")).await.unwrap().click().await.unwrap();
        browser
            .page
            .execute("document.querySelector(\"button[aria-label^='Move IMG_0002.jpg']\").focus()", vec![])
            .await
            .unwrap();
        let home: char = Key::Home.into();
        browser.page.active_element().await.unwrap().send_keys(&home.to_string()).await.unwrap();
        browser.click("Words after it").await.unwrap();
        wait_for("a field", 20, async || {
            let tag = browser.page.execute("return document.activeElement.tagName", vec![]).await?;
            Ok((tag == json!("TEXTAREA")).then_some(()))
        })
        .await
        .unwrap();
        browser.page.active_element().await.unwrap().send_keys("High water").await.unwrap();
        assert_eq!(browser.barriers().await.unwrap(), Vec::<String>::new());
        browser.click("Save").await.unwrap();
        browser.wait_for_text("By time").await.unwrap();
        browser.wait_for_text("High water").await.unwrap();
        let told = ["IMG_0002.jpg", "High water", "IMG_0001.jpg", "IMG_0000.jpg", "IMG_0008.jpg"].map(str::to_owned);
        assert_eq!(shown(&a.w.keeper, &a.id).await.0, told);
        assert_eq!(browser.barriers().await.unwrap(), Vec::<String>::new());
        // A picture of it leads to that picture, and back to the order.
        browser.page.find(Locator::Css("ul[aria-label='Pictures and words'] a")).await.unwrap().click().await.unwrap();
        browser.wait_for_text("IMG_0002.jpg").await.unwrap();
        // One after the other, as they are arranged.
        let right: char = Key::Right.into();
        for name in ["IMG_0001.jpg", "IMG_0000.jpg"] {
            browser.wait("button[aria-label='The picture after']").await.unwrap();
            browser.page.active_element().await.unwrap().send_keys(&right.to_string()).await.unwrap();
            browser.wait_for_text(name).await.unwrap();
        }
        browser.wait("button[aria-label='The picture before']").await.unwrap();
        let escape: char = Key::Escape.into();
        browser.page.active_element().await.unwrap().send_keys(&escape.to_string()).await.unwrap();
        browser.wait("ul[aria-label='Pictures and words']").await.unwrap();
        // By time, what lies beside it is what was taken before and after.
        browser.click("By time").await.unwrap();
        browser.wait_for_text("As it is arranged").await.unwrap();
        browser.page.find(Locator::Css("section li [data-at]")).await.unwrap().click().await.unwrap();
        browser.wait("button[aria-label='Older']").await.unwrap();
    }
}
