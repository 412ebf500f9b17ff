//! The routes. Handlers translate: parse, call one use case, render. Whether the caller may was asked before, by
//! [`crate::caller::guard`].
//!
//! One module for each part of the API: [`door`] (of a machine without a household), [`house`], [`session`], [`people`], [`devices`] (as people see them), [`device`]
//! (as devices ask), [`clearances`], [`adoptions`], [`library`], [`places`], [`choosing`], [`albums`], [`outside`], [`holding`], [`runs`], [`stores`], [`keys`], [`checks`], [`work`], [`events`], and [`console`], which serves the pages.

pub mod adoptions;
pub mod albums;
pub mod checks;
pub mod choosing;
pub mod clearances;
pub mod console;
pub mod device;
pub mod devices;
pub mod door;
pub mod events;
pub mod filing;
pub mod holding;
pub mod house;
pub mod keys;
pub mod library;
pub mod outside;
pub mod people;
pub mod places;
pub mod runs;
pub mod session;
pub mod stores;
pub mod work;

use actix_web::web::JsonConfig;
use utoipa::OpenApi;
use utoipa_actix_web::{AppExt, service_config::ServiceConfig};
use ypogeion_wire::{problem::Problem, work::LiveEvent};

use crate::{dav, failure::Failure, tus};

#[derive(OpenApi)]
#[openapi(
    info(title = "Ypogeion", description = "The API of a household's server. Errors are problem documents (RFC 9457)."),
    paths(dav::read_folder, dav::write_folder),
    components(schemas(Problem, ypogeion_wire::problem::ProblemType, LiveEvent))
)]
struct Document;

/// Adds every route.
pub fn routes(config: &mut ServiceConfig<'_>) {
    door::routes(config);
    config
        .service(house::health)
        .service(house::house_state)
        .service(house::overview)
        .service(house::list_copies)
        .service(events::events)
        .service(session::sign_in)
        .service(session::arrive)
        .service(session::who_am_i)
        .service(session::sign_out)
        .service(session::prove_password)
        .service(session::change_password)
        .service(session::list_sessions)
        .service(session::end_other_sessions)
        .service(session::end_session)
        .service(house::show_household)
        .service(house::change_household)
        .service(house::show_place)
        .service(filing::preview_filing)
        .service(filing::begin_refiling)
        .service(filing::list_refilings)
        .service(filing::change_refiling)
        .service(filing::correct_clock)
        .service(filing::list_corrections)
        .service(filing::undo_correction)
        .service(adoptions::list_adoptable)
        .service(adoptions::plan_adoption)
        .service(adoptions::list_adoptions)
        .service(adoptions::list_left_folders)
        .service(adoptions::change_left_folder)
        .service(adoptions::change_adoption)
        .service(adoptions::list_adopted)
        .service(people::list_people)
        .service(people::add_person)
        .service(people::change_person)
        .service(devices::claim_pairing)
        .service(devices::connect_program)
        .service(devices::create_pairing)
        .service(devices::show_pairing)
        .service(devices::withdraw_pairing)
        .service(devices::list_devices)
        .service(devices::device_coverage)
        .service(devices::rename_device)
        .service(devices::revoke_device)
        .service(library::find)
        .service(library::list_months)
        .service(library::look_in_folder)
        .service(library::show_month)
        .service(library::list_originals)
        .service(library::show_original)
        .service(library::bring_forward)
        .service(library::say_version)
        .service(library::download_original)
        .service(library::download_derived)
        .service(library::download_words)
        .service(library::show_preview)
        .service(library::show_film)
        .service(library::fetch_copy)
        .service(places::show_map)
        .service(places::list_towns)
        .service(choosing::count_chosen)
        .service(choosing::list_chosen)
        .service(choosing::make_zip)
        .service(choosing::download_zip)
        .service(choosing::mark_favourites)
        .service(choosing::put_away)
        .service(choosing::write_words)
        .service(choosing::say_where)
        .service(choosing::follow_track)
        .service(choosing::say_when)
        .service(choosing::turn_pictures)
        .service(places::list_beside)
        .service(albums::list_albums)
        .service(albums::make_album)
        .service(albums::show_album)
        .service(albums::change_album)
        .service(albums::remove_album)
        .service(albums::fill_album)
        .service(albums::show_arranged)
        .service(albums::arrange_album)
        .service(outside::make_link)
        .service(outside::list_links)
        .service(outside::list_own_links)
        .service(outside::withdraw_link)
        .service(outside::open_link)
        .service(outside::list_outside)
        .service(outside::show_outside)
        .service(outside::download_outside)
        .service(outside::zip_outside)
        .service(outside::play_outside)
        .service(outside::bring_outside)
        .service(outside::show_brought_outside)
        .service(outside::append_outside)
        .service(outside::list_brought)
        .service(outside::judge_brought)
        .service(holding::hold_originals)
        .service(holding::list_holding)
        .service(holding::take_back)
        .service(holding::end_holding)
        .service(holding::release_stopped)
        .service(runs::list_runs)
        .service(runs::export_run_entries)
        .service(runs::list_run_entries)
        .service(work::list_work)
        .service(work::retry_work)
        .service(work::list_record)
        .service(stores::list_stores)
        .service(stores::show_history)
        .service(stores::add_store)
        .service(stores::try_store)
        .service(stores::try_store_again)
        .service(stores::resume_store)
        .service(stores::change_store)
        .service(keys::show_kit)
        .service(keys::show_key)
        .service(keys::renew_key)
        .service(keys::forget_key)
        .service(keys::lend_key)
        .service(keys::add_recipient)
        .service(keys::remove_recipient)
        .service(keys::prove_kit)
        .service(checks::list_checks)
        .service(checks::want_check)
        .service(device::device_status)
        .service(device::offer)
        .service(device::list_items)
        .service(clearances::ask_clearance)
        .service(clearances::report_removed)
        .service(device::report_inventory)
        .service(device::begin_run)
        .service(device::report_run)
        .service(tus::upload_options)
        .service(tus::create_upload)
        .service(tus::show_upload)
        .service(tus::append_upload)
        .service(tus::end_upload);
}

/// How bodies are read: 8 MB at most, and what is not understood is said.
pub fn json_config() -> JsonConfig {
    JsonConfig::default().limit(8 << 20).error_handler(|e, _| Failure::bad(format!("The body is not understood: {e}.")).into())
}

/// The OpenAPI document of all routes.
pub fn document() -> utoipa::openapi::OpenApi {
    let (_, document) = actix_web::App::new().into_utoipa_app().openapi(Document::openapi()).configure(routes).split_for_parts();
    document
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use ypogeion_core::access::Action;

    #[test]
    fn every_route_has_its_action_and_every_action_its_route() {
        let document = serde_json::to_value(super::document()).unwrap();
        let routes: BTreeSet<String> = document["paths"]
            .as_object()
            .unwrap()
            .values()
            .flat_map(|path| path.as_object().unwrap().values())
            .filter_map(|operation| operation["operationId"].as_str().map(str::to_owned))
            .collect();
        let actions: BTreeSet<String> = Action::ALL.iter().map(|a| a.operation().to_owned()).collect();
        assert_eq!(routes, actions);
    }
}
