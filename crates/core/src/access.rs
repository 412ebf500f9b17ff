//! Who may do what. The one table; the service asks it on every route, and a test holds every route against it.

use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};

/// Who is asking.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// Looks after the server.
    Keeper,
    /// Lives in the household.
    Member,
    /// May add, and sees nothing but their own.
    Guest,
    /// A paired device, with its own credential: it runs our client, or the night page.
    Device,
    /// A program that was given a password: it sends, sees what it sent, and knows nothing else of the house.
    Program,
    /// Came by a link that somebody gave them, and sees what that shows.
    Outsider,
    /// Has not signed in.
    Nobody,
}

impl Role {
    /// Every role, for tables and tests.
    pub const ALL: [Role; 7] =
        [Self::Keeper, Self::Member, Self::Guest, Self::Device, Self::Program, Self::Outsider, Self::Nobody];

    /// The word stored in the database and in the ledger.
    pub fn word(self) -> &'static str {
        match self {
            Self::Keeper => "keeper",
            Self::Member => "member",
            Self::Guest => "guest",
            Self::Device => "device",
            Self::Program => "program",
            Self::Outsider => "outsider",
            Self::Nobody => "nobody",
        }
    }

    /// A person's role for a stored word. Devices and strangers are not people.
    pub fn of_person(word: &str) -> Option<Self> {
        [Self::Keeper, Self::Member, Self::Guest].into_iter().find(|r| r.word() == word)
    }
}

macro_rules! actions {
    ($($(#[$doc:meta])* $name:ident = $operation:literal => $allowed:expr),+ $(,)?) => {
        /// Everything that can be asked of the service. One action for each operation of the API, named alike.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
        pub enum Action { $($(#[$doc])* $name),+ }

        impl Action {
            /// Every action.
            pub const ALL: &'static [Action] = &[$(Action::$name),+];

            /// The operation id in the OpenAPI document.
            pub fn operation(self) -> &'static str {
                match self { $(Action::$name => $operation),+ }
            }

            /// The roles that may do it.
            pub fn allowed(self) -> &'static [Role] {
                match self { $(Action::$name => $allowed),+ }
            }
        }
    };
}

const ANYBODY: &[Role] = &Role::ALL;
const KEEPER: &[Role] = &[Role::Keeper];
const PEOPLE: &[Role] = &[Role::Keeper, Role::Member, Role::Guest];
const DEVICE: &[Role] = &[Role::Device];
/// Whoever brings pictures.
const SENDERS: &[Role] = &[Role::Device, Role::Program];
const PROGRAM: &[Role] = &[Role::Program];
const OUTSIDE: &[Role] = &[Role::Outsider];
const READERS: &[Role] = &[Role::Keeper, Role::Member, Role::Guest, Role::Device];

actions! {
    /// Is the service alive?
    Health = "health" => ANYBODY,
    /// The state of the house in one word and a sentence that names nobody.
    HouseState = "house_state" => ANYBODY,
    /// A house that is not set up: how far that is. The service asks for the code that it printed.
    ShowDoor = "show_door" => ANYBODY,
    /// Make its household.
    MakeHousehold = "make_household" => ANYBODY,
    /// Bring its household back.
    BringBack = "bring_back" => ANYBODY,
    /// Sign in.
    SignIn = "sign_in" => ANYBODY,
    /// Is there a household, and am I signed in? Whoever is not is told so, and not refused.
    Arrive = "arrive" => ANYBODY,
    /// Who am I?
    WhoAmI = "who_am_i" => PEOPLE,
    /// Sign out.
    SignOut = "sign_out" => PEOPLE,
    /// Type the password again, for what asks for it.
    ProvePassword = "prove_password" => PEOPLE,
    /// Change one's own password.
    ChangePassword = "change_password" => PEOPLE,
    /// Where one is signed in.
    ListSessions = "list_sessions" => PEOPLE,
    /// End all sessions of one's own but this one.
    EndOtherSessions = "end_other_sessions" => PEOPLE,
    /// End one session of one's own.
    EndSession = "end_session" => PEOPLE,
    /// Claim a pairing code.
    ClaimPairing = "claim_pairing" => ANYBODY,
    /// Numbers and headline. Members and guests see their own.
    Overview = "overview" => PEOPLE,
    /// Which files have which copies.
    ListCopies = "list_copies" => KEEPER,
    /// Live events.
    Events = "events" => PEOPLE,
    /// The members; all but the keeper see themselves.
    ListPeople = "list_people" => PEOPLE,
    /// Add a member.
    AddPerson = "add_person" => KEEPER,
    /// Change a member's quota or role.
    ChangePerson = "change_person" => KEEPER,
    /// The household's own rules: filing, and how deep before a device may let go.
    ShowHousehold = "show_household" => KEEPER,
    /// Change them.
    ChangeHousehold = "change_household" => KEEPER,
    /// The library's place, tried out now.
    ShowPlace = "show_place" => KEEPER,
    /// Say what a filing plan would do.
    PreviewFiling = "preview_filing" => KEEPER,
    /// File the library by another plan.
    BeginRefiling = "begin_refiling" => KEEPER,
    /// How far that has come.
    ListRefilings = "list_refilings" => KEEPER,
    /// Pause it, let it go on, stop it, take it back.
    ChangeRefiling = "change_refiling" => KEEPER,
    /// Look into the server's folders that may be adopted.
    ListAdoptable = "list_adoptable" => KEEPER,
    /// Look through one of them, and make a plan.
    PlanAdoption = "plan_adoption" => KEEPER,
    /// Adoptions and how far they have come.
    ListAdoptions = "list_adoptions" => KEEPER,
    /// Begin one, pause it, let it go on, stop it.
    ChangeAdoption = "change_adoption" => KEEPER,
    /// The folders in which originals were left, and whether they are there.
    ListLeftFolders = "list_left_folders" => KEEPER,
    /// Say that one of them does not come back.
    ChangeLeftFolder = "change_left_folder" => KEEPER,
    /// What became of its files.
    ListAdopted = "list_adopted" => KEEPER,
    /// Put the clock of a device of one's own right (the keeper: of any).
    CorrectClock = "correct_clock" => PEOPLE,
    /// The corrections of a device's clock.
    ListCorrections = "list_corrections" => PEOPLE,
    /// Take a correction back.
    UndoCorrection = "undo_correction" => PEOPLE,
    /// The devices; members and guests see their own.
    ListDevices = "list_devices" => PEOPLE,
    /// A device of one's own, number against number (the keeper: any).
    DeviceCoverage = "device_coverage" => PEOPLE,
    /// Rename a device of one's own (the keeper: any).
    RenameDevice = "rename_device" => PEOPLE,
    /// Revoke a device of one's own (the keeper: any).
    RevokeDevice = "revoke_device" => PEOPLE,
    /// Give a program of one's own its password: one that knows only an address and a password.
    ConnectProgram = "connect_program" => PEOPLE,
    /// Make a pairing code for oneself (the keeper: for anybody).
    CreatePairing = "create_pairing" => PEOPLE,
    /// Has the code been used?
    ShowPairing = "show_pairing" => PEOPLE,
    /// Take a code back.
    WithdrawPairing = "withdraw_pairing" => PEOPLE,
    /// Which pictures of one's own a line of words means.
    Find = "find" => READERS,
    /// Months and their counts.
    ListMonths = "list_months" => READERS,
    /// What is in a folder of one's own part of the library.
    LookInFolder = "look_in_folder" => PEOPLE,
    /// How the pictures of a month lie.
    ShowMonth = "show_month" => READERS,
    /// Originals of one's own.
    ListOriginals = "list_originals" => READERS,
    /// One original with facts, layers and evidence.
    ShowOriginal = "show_original" => READERS,
    /// Its bytes.
    DownloadOriginal = "download_original" => READERS,
    /// A JPEG that was made from it.
    DownloadDerived = "download_derived" => READERS,
    /// A version of a film that browsers play.
    ShowFilm = "show_film" => READERS,
    /// Fetch the copy that a store has of one's own picture.
    FetchCopy = "fetch_copy" => PEOPLE,
    /// A preview.
    ShowPreview = "show_preview" => READERS,
    /// Where pictures of one's own were taken, as a map shows it.
    ShowMap = "show_map" => READERS,
    /// The towns that they were taken near.
    ListTowns = "list_towns" => READERS,
    /// How much somebody has chosen in their library.
    CountChosen = "count_chosen" => PEOPLE,
    /// Which pictures.
    ListChosen = "list_chosen" => PEOPLE,
    /// Make a zip of them.
    MakeZip = "make_zip" => PEOPLE,
    /// Download it.
    DownloadZip = "download_zip" => PEOPLE,
    /// Say which pictures one likes best.
    MarkFavourites = "mark_favourites" => PEOPLE,
    /// Put pictures of one's own away, or back.
    PutAway = "put_away" => PEOPLE,
    /// Write a title or a caption of one's own pictures.
    WriteWords = "write_words" => PEOPLE,
    /// Say where pictures of one's own were taken.
    SayWhere = "say_where" => PEOPLE,
    /// Say where pictures of one's own were taken, by a track.
    FollowTrack = "follow_track" => PEOPLE,
    /// Say when pictures of one's own were taken.
    SayWhen = "say_when" => PEOPLE,
    /// Say which file of a picture of one's own is shown.
    BringForward = "bring_forward" => PEOPLE,
    /// Say that a file of one's own is a version of another picture.
    SayVersion = "say_version" => PEOPLE,
    /// Turn pictures of one's own.
    TurnPictures = "turn_pictures" => PEOPLE,
    /// Where the pictures beside one of one's own were taken.
    ListBeside = "list_beside" => PEOPLE,
    /// What people wrote about a picture, for programs.
    DownloadWords = "download_words" => READERS,
    /// The albums that one sees.
    ListAlbums = "list_albums" => PEOPLE,
    /// Make one.
    MakeAlbum = "make_album" => PEOPLE,
    /// One album that one sees.
    ShowAlbum = "show_album" => PEOPLE,
    /// Name it, share it, give it another cover. Whose album it is asks the engine.
    ChangeAlbum = "change_album" => PEOPLE,
    /// Take it apart. Whose album it is asks the engine.
    RemoveAlbum = "remove_album" => PEOPLE,
    /// One album that one sees, in its order.
    ShowArranged = "show_arranged" => PEOPLE,
    /// Say in which order, and with which words between. Whose album it is asks the engine.
    ArrangeAlbum = "arrange_album" => PEOPLE,
    /// Put pictures of one's own into it, or take them out. What one may there asks the engine.
    FillAlbum = "fill_album" => PEOPLE,
    /// Make a link to an album of one's own, for people outside. Guests make none: the engine asks.
    MakeLink = "make_link" => PEOPLE,
    /// The links to an album that one made.
    ListLinks = "list_links" => PEOPLE,
    /// The links of one's own, to whichever album.
    ListOwnLinks = "list_own_links" => PEOPLE,
    /// Withdraw one.
    WithdrawLink = "withdraw_link" => PEOPLE,
    /// Open a link with what is in its address, and a passphrase if it has one.
    OpenLink = "open_link" => ANYBODY,
    /// What a link shows.
    ListOutside = "list_outside" => OUTSIDE,
    /// A picture of it, as it is shown.
    ShowOutside = "show_outside" => OUTSIDE,
    /// A picture of it, to keep.
    DownloadOutside = "download_outside" => OUTSIDE,
    /// All that a link hands out, as a zip.
    ZipOutside = "zip_outside" => OUTSIDE,
    /// A film that a link plays.
    PlayOutside = "play_outside" => OUTSIDE,
    /// Bring a picture by a link. Whether it takes any asks the route.
    BringOutside = "bring_outside" => OUTSIDE,
    /// How far that has come.
    ShowBroughtOutside = "show_brought_outside" => OUTSIDE,
    /// Send more of it.
    AppendOutside = "append_outside" => OUTSIDE,
    /// What people outside brought to oneself.
    ListBrought = "list_brought" => PEOPLE,
    /// Take it, or decline it.
    JudgeBrought = "judge_brought" => PEOPLE,
    /// Delete originals of one's own: they go to holding.
    HoldOriginals = "hold_originals" => PEOPLE,
    /// What of one's own is in holding.
    ListHolding = "list_holding" => PEOPLE,
    /// Take originals back out of it.
    TakeBack = "take_back" => PEOPLE,
    /// Have originals of one's own leave holding now.
    EndHolding = "end_holding" => PEOPLE,
    /// Let go of what the safety stop holds.
    ReleaseStopped = "release_stopped" => KEEPER,
    /// Backup runs; a device sees its own.
    ListRuns = "list_runs" => READERS,
    /// What a run did, file by file.
    ListRunEntries = "list_run_entries" => READERS,
    /// The same as a table for a spreadsheet.
    ExportRunEntries = "export_run_entries" => READERS,
    /// Background work.
    ListWork = "list_work" => KEEPER,
    /// Try failed work again.
    RetryWork = "retry_work" => KEEPER,
    /// The append-only record.
    ListRecord = "list_record" => KEEPER,
    /// The stores.
    ListStores = "list_stores" => KEEPER,
    /// What was sent in the last weeks, and how exposed the house was.
    ShowHistory = "show_history" => KEEPER,
    /// Add a store.
    AddStore = "add_store" => KEEPER,
    /// Go on after a stop, or change the keys.
    ResumeStore = "resume_store" => KEEPER,
    /// Try a store out.
    TryStore = "try_store" => KEEPER,
    /// Try one out that was added before.
    TryStoreAgain = "try_store_again" => KEEPER,
    /// Have a store wait, or say when and how fast copies go there.
    ChangeStore = "change_store" => KEEPER,
    /// How copies were checked, and what it says.
    ListChecks = "list_checks" => KEEPER,
    /// Check some now.
    WantCheck = "want_check" => KEEPER,
    /// The recovery kit. Asks for the keeper's password again.
    ShowKit = "show_kit" => KEEPER,
    /// Whom copies are sealed for, and what the server keeps of the key.
    ShowKey = "show_key" => KEEPER,
    /// Make a new key. Asks for the keeper's password again.
    RenewKey = "renew_key" => KEEPER,
    /// Have the server forget what opens copies. Asks for the keeper's password again.
    ForgetKey = "forget_key" => KEEPER,
    /// Lend it the key for an hour, or give it back.
    LendKey = "lend_key" => KEEPER,
    /// Let somebody else open copies as well. Asks for the keeper's password again.
    AddRecipient = "add_recipient" => KEEPER,
    /// And no more.
    RemoveRecipient = "remove_recipient" => KEEPER,
    /// Show that the recovery kit was kept.
    ProveKit = "prove_kit" => KEEPER,
    /// What the server knows of this device.
    DeviceStatus = "device_status" => DEVICE,
    /// Ask which copies this device may remove.
    AskClearance = "ask_clearance" => DEVICE,
    /// Say what was removed with a clearance.
    ReportRemoved = "report_removed" => DEVICE,
    /// Offer originals.
    Offer = "offer" => DEVICE,
    /// What this device has sent, with layers.
    ListItems = "list_items" => DEVICE,
    /// Say what is in the sources.
    ReportInventory = "report_inventory" => DEVICE,
    /// Begin a run.
    BeginRun = "begin_run" => DEVICE,
    /// Report a run's entries, and its end.
    ReportRun = "report_run" => DEVICE,
    /// What the server's uploads can do (tus).
    UploadOptions = "upload_options" => ANYBODY,
    /// Create an upload (tus).
    CreateUpload = "create_upload" => SENDERS,
    /// How far is an upload? (tus)
    ShowUpload = "show_upload" => SENDERS,
    /// Send bytes (tus).
    AppendUpload = "append_upload" => SENDERS,
    /// End an upload that is not complete (tus).
    EndUpload = "end_upload" => SENDERS,
    /// List and read a program's own folders (WebDAV).
    ReadFolder = "read_folder" => PROGRAM,
    /// Put files into them. Nothing in the library is replaced or removed by it.
    WriteFolder = "write_folder" => PROGRAM,
}

/// May this role do that?
///
/// ```
/// use ypogeion_core::access::{Action, Role, may};
/// assert!(may(Role::Keeper, Action::AddStore));
/// assert!(!may(Role::Device, Action::AddStore));
/// ```
pub fn may(role: Role, action: Action) -> bool {
    action.allowed().contains(&role)
}

/// A credential that was not used for this long ends by itself: a phone that nobody misses is in a drawer, or in somebody else's hand.
pub const UNUSED: TimeDelta = TimeDelta::days(365);
/// That it will end is said for this long before.
const SAID_BEFORE: TimeDelta = TimeDelta::days(30);

/// Whether a credential still counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Validity {
    /// It does.
    Good,
    /// It does, and ends then if it is not used before.
    EndsAt(DateTime<Utc>),
    /// It ended then.
    Ended(DateTime<Utc>),
}

/// Whether a credential that was last used then still counts.
pub fn validity(used: DateTime<Utc>, now: DateTime<Utc>) -> Validity {
    let end = used + UNUSED;
    match () {
        () if end <= now => Validity::Ended(end),
        () if end - SAID_BEFORE <= now => Validity::EndsAt(end),
        () => Validity::Good,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_used_for_a_year_ends_and_that_is_said_for_a_month() {
        let used = DateTime::UNIX_EPOCH + TimeDelta::days(20_000);
        let at = |days: i64| validity(used, used + TimeDelta::days(days));
        let end = used + UNUSED;
        assert_eq!([at(0), at(334)], [Validity::Good; 2]);
        assert_eq!([at(335), at(364)], [Validity::EndsAt(end); 2]);
        assert_eq!([at(365), at(5000)], [Validity::Ended(end); 2]);
        // A clock that was put back is no reason to let anybody in or out.
        assert_eq!(at(-10), Validity::Good);
    }

    #[test]
    fn a_program_sends_and_sees_its_own_and_knows_nothing_of_the_house() {
        let program: Vec<_> =
            Action::ALL.iter().filter(|a| may(Role::Program, **a) && !may(Role::Nobody, **a)).map(|a| a.operation()).collect();
        let expected = ["create_upload", "show_upload", "append_upload", "end_upload", "read_folder", "write_folder"];
        assert_eq!(program, expected);
    }

    #[test]
    fn a_stolen_phone_can_add_and_read_and_nothing_else() {
        let device: Vec<_> = Action::ALL.iter().filter(|a| may(Role::Device, **a)).map(|a| a.operation()).collect();
        for word in [
            "revoke", "retry", "change", "withdraw", "kit", "store", "people", "rename", "record", "hold_", "holding", "stopped",
            "back_",
        ] {
            assert!(!device.iter().any(|o| o.contains(word)), "{device:?} contains {word}");
        }
    }

    #[test]
    fn strangers_reach_only_the_door() {
        let public: Vec<_> = Action::ALL.iter().filter(|a| may(Role::Nobody, **a)).map(|a| a.operation()).collect();
        assert_eq!(
            public,
            [
                "health",
                "house_state",
                "show_door",
                "make_household",
                "bring_back",
                "sign_in",
                "arrive",
                "claim_pairing",
                "open_link",
                "upload_options"
            ]
        );
    }

    #[test]
    fn whoever_came_by_a_link_sees_what_it_shows_and_brings_what_it_takes_and_nothing_else() {
        let outside: Vec<_> =
            Action::ALL.iter().filter(|a| may(Role::Outsider, **a) && !may(Role::Nobody, **a)).map(|a| a.operation()).collect();
        let shows = ["list_outside", "show_outside", "download_outside", "zip_outside", "play_outside"];
        let takes = ["bring_outside", "show_brought_outside", "append_outside"];
        assert_eq!(outside, [&shows[..], &takes].concat());
        let shared = |a: &&Action| Role::ALL.iter().any(|role| *role != Role::Outsider && may(*role, **a));
        assert!(
            !Action::ALL.iter().filter(|a| a.operation().ends_with("_outside")).any(|a| shared(&a)),
            "and nobody else by that way"
        );
    }

    #[test]
    fn the_keeper_may_whatever_a_member_may() {
        for action in Action::ALL {
            assert!(!may(Role::Member, *action) || may(Role::Keeper, *action), "{action:?}");
        }
    }
}
