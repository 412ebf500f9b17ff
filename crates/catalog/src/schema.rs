//! What the migrations add up to, printed by `diesel print-schema` (see diesel.toml). Written by nobody.

diesel::table! {
    adopted_file (adoption, archive, path) {
        adoption -> Uuid,
        archive -> Bytea,
        path -> Bytea,
        size -> Int8,
        file_time -> Nullable<Timestamptz>,
        known -> Bool,
        outcome -> Nullable<Text>,
        reason -> Nullable<Text>,
    }
}

diesel::table! {
    adoption (id) {
        id -> Uuid,
        person -> Uuid,
        place -> Text,
        in_place -> Bool,
        everything -> Bool,
        device -> Nullable<Uuid>,
        made_by -> Text,
        began_at -> Timestamptz,
        ended_at -> Nullable<Timestamptz>,
        state -> Text,
        problem -> Nullable<Text>,
    }
}

diesel::table! {
    album (id) {
        id -> Uuid,
        person -> Uuid,
        name -> Text,
        words -> Text,
        household -> Nullable<Text>,
        cover -> Nullable<Uuid>,
        made_at -> Timestamptz,
        arrangement -> Nullable<Jsonb>,
        follows -> Nullable<Text>,
        follows_as -> Nullable<Text>,
    }
}

diesel::table! {
    album_picture (album, original) {
        album -> Uuid,
        original -> Uuid,
        added_by -> Nullable<Uuid>,
        added_at -> Timestamptz,
        followed -> Bool,
    }
}

diesel::table! {
    album_share (album, person) {
        album -> Uuid,
        person -> Uuid,
        may -> Text,
    }
}

diesel::table! {
    album_without (album, original) {
        album -> Uuid,
        original -> Uuid,
    }
}

diesel::table! {
    audit (id) {
        id -> Uuid,
        place -> Uuid,
        kind -> Text,
        whole -> Bool,
        wanted_at -> Timestamptz,
        began_at -> Nullable<Timestamptz>,
        ended_at -> Nullable<Timestamptz>,
        population -> Int8,
        checked -> Int8,
        bytes -> Int8,
        wrong -> Int8,
        missing -> Int8,
        unknown -> Int8,
        said -> Nullable<Text>,
        failed -> Bool,
        unseen -> Int8,
    }
}

diesel::table! {
    brought (original) {
        original -> Uuid,
        person -> Uuid,
        album -> Nullable<Uuid>,
        brought_by -> Text,
        brought_at -> Timestamptz,
    }
}

diesel::table! {
    clearance (id) {
        id -> Uuid,
        device -> Uuid,
        nonce -> Text,
        given_at -> Timestamptz,
        holds_until -> Timestamptz,
        used_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    clearance_entry (clearance, source, name) {
        clearance -> Uuid,
        source -> Text,
        name -> Text,
        original -> Uuid,
        digest -> Bytea,
        evidence -> Jsonb,
        removed_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    clock_correction (id) {
        id -> Uuid,
        device -> Uuid,
        from_local -> Timestamp,
        to_local -> Timestamp,
        seconds -> Int8,
        originals -> Int8,
        made_by -> Text,
        made_at -> Timestamptz,
        undone_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    counted (original) {
        original -> Uuid,
        person -> Uuid,
        size -> Int8,
        landed_at -> Timestamptz,
        kept -> Bool,
        living -> Bool,
        month -> Nullable<Date>,
        home -> Bool,
        away -> Bool,
        proven_at -> Nullable<Timestamptz>,
        coming -> Bool,
        stores -> Array<Nullable<Uuid>>,
        proofs -> Array<Nullable<Timestamptz>>,
    }
}

diesel::table! {
    derived_file (original) {
        original -> Uuid,
        path -> Text,
        folded -> Text,
        digest -> Bytea,
        size -> Int8,
        made_at -> Timestamptz,
    }
}

diesel::table! {
    device (id) {
        id -> Uuid,
        person -> Uuid,
        name -> Text,
        kind -> Text,
        token_hash -> Bytea,
        client -> Nullable<Text>,
        paired_at -> Timestamptz,
        revoked_at -> Nullable<Timestamptz>,
        seen_at -> Nullable<Timestamptz>,
        waiting_for -> Nullable<Text>,
        made -> Int8,
    }
}

diesel::table! {
    device_source (device, name) {
        device -> Uuid,
        name -> Text,
        files -> Int8,
        bytes -> Int8,
        left_out -> Int8,
        rule -> Text,
        selection_only -> Bool,
        told_at -> Timestamptz,
        fresh -> Nullable<Int8>,
        named -> Int8,
    }
}

diesel::table! {
    elsewhere (folder) {
        folder -> Bytea,
        unseen_since -> Nullable<Timestamptz>,
        given_up_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    exposure (hour) {
        hour -> Timestamptz,
        originals -> Int8,
        bytes -> Int8,
        since -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    favourite (person, original) {
        person -> Uuid,
        original -> Uuid,
    }
}

diesel::table! {
    film (original) {
        original -> Uuid,
        state -> Text,
        size -> Nullable<Int8>,
        why -> Nullable<Text>,
    }
}

diesel::table! {
    folder_entry (device, path) {
        device -> Uuid,
        path -> Text,
        parent -> Text,
        folder -> Bool,
        original -> Nullable<Uuid>,
        upload -> Nullable<Uuid>,
        made_at -> Timestamptz,
        changed_at -> Timestamptz,
        properties -> Jsonb,
    }
}

diesel::table! {
    forward (original) {
        original -> Uuid,
        forward_at -> Timestamptz,
    }
}
diesel::table! {
    healing (id) {
        id -> Int8,
        original -> Uuid,
        place -> Uuid,
        source -> Uuid,
        at -> Timestamptz,
    }
}

diesel::table! {
    given_place (original) {
        original -> Uuid,
        north -> Nullable<Float8>,
        east -> Nullable<Float8>,
        given_by -> Nullable<Uuid>,
        given_at -> Timestamptz,
    }
}

diesel::table! {
    given_time (original) {
        original -> Uuid,
        seconds -> Int8,
        given_by -> Nullable<Uuid>,
        given_at -> Timestamptz,
    }
}

diesel::table! {
    given_turn (original) {
        original -> Uuid,
        quarters -> Int2,
        given_by -> Nullable<Uuid>,
        given_at -> Timestamptz,
    }
}

diesel::table! {
    held (original) {
        original -> Uuid,
        was_at -> Text,
        deleted_by -> Text,
        at -> Timestamptz,
        until -> Nullable<Timestamptz>,
        looked_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    household (one) {
        one -> Bool,
        name -> Text,
        replica -> Uuid,
        name_key -> Text,
        created_at -> Timestamptz,
        filing -> Text,
        clear_at -> Text,
        derive_jpeg -> Bool,
        home_days -> Nullable<Int2>,
        offsite_days -> Int2,
        safety_stop_percent -> Int2,
        seal_epoch -> Int2,
        strict -> Bool,
        library -> Nullable<Uuid>,
        ledger_key -> Nullable<Text>,
    }
}

diesel::table! {
    household_key (epoch) {
        epoch -> Int2,
        recipient -> Text,
        made_at -> Timestamptz,
    }
}

diesel::table! {
    job (id) {
        id -> Int8,
        kind -> Text,
        key -> Uuid,
        store -> Nullable<Uuid>,
        priority -> Int4,
        due -> Timestamptz,
        attempts -> Int4,
        error -> Nullable<Text>,
        gave_up -> Bool,
        leased_by -> Nullable<Uuid>,
        lease_end -> Nullable<Timestamptz>,
        wishes -> Int8,
        taken -> Int8,
        lost -> Int4,
    }
}

diesel::table! {
    kit (one) {
        one -> Bool,
        said -> Text,
        check_word -> Text,
        shown_at -> Timestamptz,
        proven_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    link (id) {
        id -> Uuid,
        person -> Uuid,
        album -> Uuid,
        secret_hash -> Bytea,
        passphrase_hash -> Nullable<Text>,
        hands_out -> Text,
        made_at -> Timestamptz,
        ends_at -> Timestamptz,
        opened -> Int8,
        opened_at -> Nullable<Timestamptz>,
        device -> Nullable<Uuid>,
    }
}

diesel::table! {
    link_visit (token_hash) {
        token_hash -> Bytea,
        link -> Uuid,
        ends_at -> Timestamptz,
    }
}

diesel::table! {
    name_change (id) {
        id -> Int8,
        person -> Uuid,
        digest -> Bytea,
    }
}

diesel::table! {
    object (store, digest) {
        store -> Uuid,
        digest -> Bytea,
        name -> Text,
        size -> Int8,
        sealed_hash -> Bytea,
        confirmed_at -> Timestamptz,
        leaving -> Bool,
        epoch -> Int2,
        sealed_algorithm -> Text,
    }
}

diesel::table! {
    observation (id) {
        id -> Int8,
        original -> Uuid,
        place -> Uuid,
        act -> Text,
        at -> Timestamptz,
        digest -> Nullable<Bytea>,
        outcome -> Text,
    }
}

diesel::table! {
    original (id) {
        id -> Uuid,
        person -> Uuid,
        device -> Nullable<Uuid>,
        digest -> Bytea,
        size -> Int8,
        name -> Text,
        path -> Text,
        folded -> Nullable<Text>,
        kind -> Text,
        taken_at -> Timestamptz,
        taken_local -> Timestamp,
        taken_rule -> Text,
        facts -> Jsonb,
        preview -> Text,
        placeholder -> Nullable<Text>,
        landed_at -> Timestamptz,
        source -> Text,
        file_time -> Nullable<Timestamptz>,
        pair -> Nullable<Text>,
        shot_key -> Text,
        shot -> Uuid,
        part -> Text,
        correction -> Nullable<Uuid>,
        moving_to -> Nullable<Text>,
        held_at -> Nullable<Timestamptz>,
        gone_at -> Nullable<Timestamptz>,
        leads -> Bool,
        camera -> Nullable<Text>,
        searched -> Text,
        spot -> Nullable<Int8>,
        town -> Nullable<Int4>,
        put_away -> Bool,
    }
}

diesel::table! {
    other_recipient (recipient) {
        recipient -> Text,
        name -> Text,
        added_at -> Timestamptz,
    }
}

diesel::table! {
    pairing (id) {
        id -> Uuid,
        code_hash -> Bytea,
        person -> Uuid,
        created_by -> Uuid,
        created_at -> Timestamptz,
        expires_at -> Timestamptz,
        withdrawn_at -> Nullable<Timestamptz>,
        device -> Nullable<Uuid>,
    }
}

diesel::table! {
    person (id) {
        id -> Uuid,
        name -> Text,
        login -> Text,
        role -> Text,
        folder -> Text,
        password_hash -> Text,
        quota -> Nullable<Int8>,
        created_at -> Timestamptz,
        soft_quota -> Nullable<Int8>,
    }
}

diesel::table! {
    record (id) {
        id -> Int8,
        at -> Timestamptz,
        who -> Text,
        what -> Text,
    }
}

diesel::table! {
    refiling (id) {
        id -> Uuid,
        plan -> Text,
        before -> Text,
        undoes -> Nullable<Uuid>,
        made_by -> Text,
        began_at -> Timestamptz,
        ended_at -> Nullable<Timestamptz>,
        state -> Text,
    }
}

diesel::table! {
    refiling_move (refiling, original) {
        refiling -> Uuid,
        original -> Uuid,
        from_path -> Text,
        wanted -> Nullable<Text>,
        to_path -> Nullable<Text>,
        done_at -> Nullable<Timestamptz>,
        error -> Nullable<Text>,
    }
}

diesel::table! {
    removed_object (id) {
        store -> Uuid,
        size -> Int8,
        confirmed_at -> Timestamptz,
        removed_at -> Timestamptz,
        id -> Int8,
    }
}

diesel::table! {
    run (id) {
        id -> Uuid,
        device -> Uuid,
        began_at -> Timestamptz,
        reported_at -> Timestamptz,
        ended_at -> Nullable<Timestamptz>,
        checked -> Int8,
        sent -> Int8,
        present -> Int8,
        skipped -> Int8,
        failed -> Int8,
        bytes -> Int8,
        halted -> Nullable<Text>,
    }
}

diesel::table! {
    run_entry (id) {
        id -> Int8,
        run -> Uuid,
        name -> Text,
        source -> Text,
        outcome -> Text,
        reason -> Nullable<Text>,
        size -> Int8,
    }
}

diesel::table! {
    said (shot) {
        shot -> Uuid,
        person -> Uuid,
        original -> Uuid,
        of_file -> Bool,
        title -> Text,
        caption -> Text,
        searched -> Text,
    }
}

diesel::table! {
    session (token_hash) {
        token_hash -> Bytea,
        person -> Uuid,
        created_at -> Timestamptz,
        expires_at -> Timestamptz,
        id -> Uuid,
        agent -> Text,
        seen_at -> Nullable<Timestamptz>,
        proved_at -> Timestamptz,
    }
}

diesel::table! {
    sighting (device, source, name) {
        device -> Uuid,
        source -> Text,
        name -> Text,
        digest -> Bytea,
        size -> Int8,
        file_time -> Nullable<Timestamptz>,
        refused -> Nullable<Text>,
        seen_at -> Timestamptz,
        removed_at -> Nullable<Timestamptz>,
        here -> Bool,
        known -> Bool,
        unnamed -> Bool,
    }
}

diesel::table! {
    spot_change (id) {
        id -> Int8,
        person -> Uuid,
        spot -> Int8,
        town -> Nullable<Int4>,
        n -> Int8,
    }
}

diesel::table! {
    spot_tally (person, level, cell) {
        person -> Uuid,
        level -> Int2,
        cell -> Int8,
        n -> Int8,
        x -> Int8,
        y -> Int8,
    }
}

diesel::table! {
    standing (original, place) {
        original -> Uuid,
        place -> Uuid,
        good -> Bool,
        since -> Timestamptz,
        proven_at -> Nullable<Timestamptz>,
        listed -> Bool,
        looked_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    store (id) {
        id -> Uuid,
        name -> Text,
        endpoint -> Text,
        region -> Text,
        bucket -> Text,
        prefix -> Text,
        access_key -> Text,
        secret_key -> Text,
        created_at -> Timestamptz,
        stopped -> Nullable<Text>,
        failing -> Nullable<Text>,
        retry_at -> Nullable<Timestamptz>,
        faults -> Int4,
        ledger_segment -> Int8,
        week -> Jsonb,
        paused -> Bool,
        rest_until -> Nullable<Timestamptz>,
        away -> Bool,
        prices -> Jsonb,
        checkpoint -> Int8,
        sealed -> Bool,
        said -> Nullable<Bytea>,
        ledger_name -> Nullable<Text>,
        ledger_digest -> Nullable<Bytea>,
        checkpoint_due -> Bool,
        certificate -> Nullable<Bytea>,
        recorded -> Int8,
        checksum -> Nullable<Text>,
    }
}

diesel::table! {
    superseded (store, name) {
        store -> Uuid,
        name -> Text,
        digest -> Bytea,
        at -> Timestamptz,
    }
}

diesel::table! {
    tally (about, fact, day) {
        about -> Uuid,
        fact -> Text,
        day -> Date,
        n -> Int8,
        bytes -> Int8,
    }
}

diesel::table! {
    tally_change (id) {
        id -> Int8,
        about -> Uuid,
        fact -> Text,
        day -> Date,
        n -> Int8,
        bytes -> Int8,
    }
}

diesel::table! {
    town (id) {
        id -> Int4,
        name -> Text,
        region -> Text,
        country -> Text,
        north -> Float8,
        east -> Float8,
    }
}

diesel::table! {
    town_tally (person, town) {
        person -> Uuid,
        town -> Int4,
        n -> Int8,
    }
}

diesel::table! {
    traffic (store, hour) {
        store -> Uuid,
        hour -> Timestamptz,
        objects -> Int8,
        bytes -> Int8,
    }
}

diesel::table! {
    upload (id) {
        id -> Uuid,
        device -> Uuid,
        person -> Uuid,
        length -> Int8,
        digest -> Nullable<Bytea>,
        name -> Text,
        source -> Text,
        file_time -> Nullable<Timestamptz>,
        created_at -> Timestamptz,
        expires_at -> Timestamptz,
        target -> Nullable<Text>,
        original -> Nullable<Uuid>,
        metadata -> Text,
        concat -> Nullable<Text>,
        received -> Int8,
        touched_at -> Timestamptz,
        brought_for -> Nullable<Uuid>,
        brought_by -> Nullable<Text>,
    }
}

diesel::table! {
    version (original) {
        original -> Uuid,
        version_of -> Uuid,
    }
}

diesel::table! {
    words (original, of_file) {
        original -> Uuid,
        of_file -> Bool,
        title -> Text,
        caption -> Text,
        written_by -> Nullable<Uuid>,
        written_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    zip (id) {
        id -> Uuid,
        person -> Uuid,
        name -> Text,
        ends_at -> Timestamptz,
        files -> Int8,
        length -> Int8,
    }
}

diesel::table! {
    zip_file (zip, n) {
        zip -> Uuid,
        n -> Int8,
        original -> Uuid,
        name -> Text,
        size -> Int8,
        changed -> Timestamptz,
        local -> Timestamp,
        starts -> Int8,
        crc -> Nullable<Int8>,
        text -> Nullable<Bytea>,
    }
}

diesel::joinable!(adopted_file -> adoption (adoption));
diesel::joinable!(adoption -> device (device));
diesel::joinable!(adoption -> person (person));
diesel::joinable!(album -> person (person));
diesel::joinable!(album_picture -> album (album));
diesel::joinable!(album_picture -> original (original));
diesel::joinable!(album_picture -> person (added_by));
diesel::joinable!(album_share -> album (album));
diesel::joinable!(album_share -> person (person));
diesel::joinable!(album_without -> album (album));
diesel::joinable!(album_without -> original (original));
diesel::joinable!(brought -> album (album));
diesel::joinable!(brought -> original (original));
diesel::joinable!(brought -> person (person));
diesel::joinable!(clearance -> device (device));
diesel::joinable!(clearance_entry -> clearance (clearance));
diesel::joinable!(clearance_entry -> original (original));
diesel::joinable!(clock_correction -> device (device));
diesel::joinable!(counted -> original (original));
diesel::joinable!(derived_file -> original (original));
diesel::joinable!(device -> person (person));
diesel::joinable!(device_source -> device (device));
diesel::joinable!(favourite -> original (original));
diesel::joinable!(favourite -> person (person));
diesel::joinable!(film -> original (original));
diesel::joinable!(folder_entry -> device (device));
diesel::joinable!(folder_entry -> original (original));
diesel::joinable!(folder_entry -> upload (upload));
diesel::joinable!(forward -> original (original));
diesel::joinable!(given_place -> original (original));
diesel::joinable!(given_place -> person (given_by));
diesel::joinable!(given_time -> original (original));
diesel::joinable!(given_time -> person (given_by));
diesel::joinable!(given_turn -> original (original));
diesel::joinable!(given_turn -> person (given_by));
diesel::joinable!(healing -> original (original));
diesel::joinable!(held -> original (original));
diesel::joinable!(job -> store (store));
diesel::joinable!(link -> album (album));
diesel::joinable!(link -> device (device));
diesel::joinable!(link -> person (person));
diesel::joinable!(link_visit -> link (link));
diesel::joinable!(object -> store (store));
diesel::joinable!(observation -> original (original));
diesel::joinable!(original -> clock_correction (correction));
diesel::joinable!(original -> device (device));
diesel::joinable!(original -> person (person));
diesel::joinable!(original -> town (town));
diesel::joinable!(pairing -> device (device));
diesel::joinable!(refiling_move -> original (original));
diesel::joinable!(refiling_move -> refiling (refiling));
diesel::joinable!(removed_object -> store (store));
diesel::joinable!(run -> device (device));
diesel::joinable!(run_entry -> run (run));
diesel::joinable!(session -> person (person));
diesel::joinable!(sighting -> device (device));
diesel::joinable!(standing -> original (original));
diesel::joinable!(superseded -> store (store));
diesel::joinable!(traffic -> store (store));
diesel::joinable!(upload -> device (device));
diesel::joinable!(upload -> original (original));
diesel::joinable!(upload -> person (person));
diesel::joinable!(version -> original (original));
diesel::joinable!(words -> original (original));
diesel::joinable!(words -> person (written_by));
diesel::joinable!(zip -> person (person));
diesel::joinable!(zip_file -> zip (zip));
