//! Members.

use uuid::Uuid;
use ypogeion_catalog::people::Person as Row;
use ypogeion_core::{PersonId, access::Role, filing::member_folder, room::QuotaState};
use ypogeion_wire::people::{NewPerson, Person, PersonChange};

use crate::{
    engine::Engine,
    error::{Error, Result},
    secrets,
};

async fn view(engine: &Engine, row: Row) -> Result<Person> {
    let usage = engine.catalog.usage(row.id).await?;
    Ok(Person {
        id: row.id,
        name: row.name,
        role: row.role.word().into(),
        folder: row.folder,
        quota_state: QuotaState::of(usage.bytes, row.soft_quota, row.quota).word().to_owned(),
        quota: row.quota,
        soft_quota: row.soft_quota,
        originals: usage.count,
        bytes: usage.bytes,
    })
}

/// The members, or the one of them that is asked for.
pub async fn list(engine: &Engine, only: Option<PersonId>) -> Result<Vec<Person>> {
    let mut people = Vec::new();
    for row in engine.catalog.people().await? {
        if only.is_none_or(|only| only == row.id) {
            people.push(view(engine, row).await?);
        }
    }
    Ok(people)
}

/// Adds a member. `proved`: whoever asks typed their password lately, without which nobody makes another keeper.
pub async fn add(engine: &Engine, who: &str, new: NewPerson, proved: bool) -> Result<Person> {
    let NewPerson { name, role, password, quota } = new;
    if Role::of_person(&role) == Some(Role::Keeper) && !proved {
        return Err(Error::PasswordWanted);
    }
    let row = new_person(&name, &role, password, quota).await?;
    engine.catalog.add_person(&row, engine.now()).await?;
    engine.catalog.write_record(engine.now(), who, &format!("added {} as {role}", row.name)).await?;
    view(engine, row).await
}

/// Checks what was typed and makes a member of it.
pub async fn new_person(name: &str, role: &str, password: String, quota: Option<u64>) -> Result<Row> {
    let name = name.trim().to_owned();
    if name.is_empty() || name.chars().count() > 60 || name.chars().any(char::is_control) {
        return Err(Error::invalid("A name has between 1 and 60 characters."));
    }
    let role = Role::of_person(role).ok_or_else(|| Error::invalid("A role is keeper, member or guest."))?;
    let password_hash = hashed(password).await?;
    let folder = member_folder(&name);
    if folder.starts_with('.') {
        return Err(Error::invalid("A name begins with a letter or a digit."));
    }
    Ok(Row { id: PersonId(Uuid::now_v7()), name, role, folder, password_hash, quota: quota.filter(|q| *q > 0), soft_quota: None })
}

async fn hashed(password: String) -> Result<String> {
    tokio::task::spawn_blocking(move || secrets::hash_password(&password)).await?
}

/// Changes a member's quota or password. `proved`: whoever asks typed their password lately, without which nobody sets another's.
pub async fn change(engine: &Engine, by: &Row, id: PersonId, change: PersonChange, proved: bool) -> Result<Person> {
    let PersonChange { quota, soft_quota, password } = change;
    if password.is_some() && id == by.id {
        return Err(Error::invalid("Your own password is changed under your name, and asks for the one that counts now."));
    }
    if password.is_some() && !proved {
        return Err(Error::PasswordWanted);
    }
    let hash = match password {
        Some(password) => Some(hashed(password).await?),
        None => None,
    };
    engine.catalog.change_person(id, quota, soft_quota, hash.as_deref(), None).await?;
    let row = engine.catalog.person(id).await?;
    let what = [quota.map(|_| "quota"), soft_quota.map(|_| "soft quota"), hash.as_ref().map(|_| "password")]
        .into_iter()
        .flatten()
        .collect::<Vec<_>>()
        .join(" and ");
    engine.catalog.write_record(engine.now(), &by.name, &format!("changed the {what} of {}", row.name)).await?;
    view(engine, row).await
}
