//! What PostgreSQL keeps contenders from, and what Kampf keeps from others' data, on servers that the tests start themselves.

use crate::common::servers::{Database, Loaded, apiary, installed, postgres};
use kampf_contest::EngineErrorKind;
use kampf_engine::Ground;
use kampf_schema::ValueRef;

#[test]
fn who_reads_the_data_can_write_nothing_whatever_the_statement() {
    if !installed() {
        return;
    }
    let (schema, blueprint) = apiary();
    let loaded = Loaded::alone(&schema, &blueprint, &[]);
    loaded.execute(&["CREATE FUNCTION plant() RETURNS int LANGUAGE sql AS 'INSERT INTO strain VALUES (-1, ''x'', NULL) RETURNING 1'"]);
    let stamp = loaded.served().stamp().unwrap();
    let writes = [
        "DELETE FROM hive RETURNING id",
        "DROP TABLE inspection",
        "CREATE TABLE mine (id int)",
        "CREATE TEMPORARY TABLE mine (id int)",
        "SELECT * INTO mine FROM hive",
        "SELECT plant()",
        "SELECT lo_create(0)",
        "SELECT lo_from_bytea(0, 'x')",
        "WITH gone AS (DELETE FROM inspection RETURNING id) SELECT * FROM gone",
        "SELECT id FROM hive FOR UPDATE",
        "SELECT setval('plant', 1)",
        "COPY hive TO '/tmp/hive'",
        "COPY hive TO PROGRAM 'cat'",
        "SELECT pg_read_file('/etc/passwd')",
        "ALTER ROLE kampf_reader SUPERUSER",
        "SET ROLE kampf",
        "CHECKPOINT",
        "SELECT 1; DELETE FROM hive",
    ];
    let run = |session: &mut dyn kampf_contest::Session, sql: &str| {
        let statement = session.prepare(sql, &[])?;
        session.run(statement, &[], &mut |_: &[ValueRef<'_>]| kampf_contest::Flow::More)
    };
    for sql in writes {
        let connection = loaded.connect();
        let mut session = connection.session();
        // Neither as it comes nor by one who has first allowed himself to write.
        assert!(run(session.as_mut(), sql).is_err(), "{sql}");
        run(session.as_mut(), "SET default_transaction_read_only = off").unwrap();
        assert!(run(session.as_mut(), sql).is_err(), "{sql}");
    }
    assert_eq!(loaded.served().stamp().unwrap(), stamp);
    // What a statement of the user's is tried in tells when it lets its session write.
    let connection = loaded.connect();
    let mut session = connection.session();
    session.begin_reading().unwrap();
    run(session.as_mut(), "SELECT count(*) FROM hive").unwrap();
    session.end_reading().unwrap();
    session.begin_reading().unwrap();
    run(session.as_mut(), "SELECT set_config('default_transaction_read_only', 'off', false)").unwrap();
    assert!(session.end_reading().unwrap_err().message.contains("lets its session write"));
    session.begin_reading().unwrap();
    assert!(run(session.as_mut(), "SELECT set_config('transaction_read_only', 'off', false)").is_err());
    // Its owner's changes show.
    loaded.execute(&["UPDATE hive SET label = 'x' WHERE id = 1"]);
    assert_ne!(loaded.served().stamp().unwrap(), stamp);
}

#[test]
fn what_others_hang_on_the_data_is_never_dropped_along() {
    if !installed() {
        return;
    }
    let (schema, blueprint) = apiary();
    let server = Database::new();
    let url = server.0.clone();
    let folder = tempfile::tempdir().unwrap();
    let place = Ground { folder: folder.path(), server: Some(&url), name: "4f", owner: "test", variant: None };
    let load = || postgres().load(&place, &schema, &blueprint, &[], &mut |_| {});
    load().unwrap();
    for (make, drop, named) in [
        ("CREATE VIEW public.calm AS SELECT * FROM kampf_4f.hive", "DROP VIEW public.calm", "view calm depends on table"),
        (
            "CREATE TABLE public.swarm (hive_id bigint REFERENCES kampf_4f.hive (id))",
            "DROP TABLE public.swarm",
            "constraint swarm_hive_id_fkey on table swarm depends on",
        ),
        ("CREATE TABLE kampf_4f.mine (id int)", "DROP TABLE kampf_4f.mine", "table kampf_4f.mine depends on schema"),
        (
            "CREATE FUNCTION kampf_4f.one() RETURNS int LANGUAGE sql AS 'SELECT 1'",
            "DROP FUNCTION kampf_4f.one()",
            "function kampf_4f.one()",
        ),
    ] {
        server.execute(&[make]);
        for error in [postgres().remove(&place).unwrap_err(), load().unwrap_err(), postgres().sweep(Some(&url), "test").unwrap_err()] {
            assert!(error.message.contains("that Kampf did not make") && error.message.contains(named), "{error}");
        }
        // Nothing is gone, not even the tables that nothing hangs on.
        server.execute(&["SELECT count(*) FROM kampf_4f.inspection", drop]);
    }
    assert!(postgres().remove(&place).unwrap());
}

#[test]
fn a_dataset_on_a_server_is_its_owner_s_and_stays_while_it_is_used() {
    if !installed() {
        return;
    }
    let (schema, blueprint) = apiary();
    let server = Database::new();
    let url = server.0.clone();
    let folder = tempfile::tempdir().unwrap();
    let place = |name: &'static str, owner: &'static str| Ground { folder: folder.path(), server: Some(&url), name, owner, variant: None };
    let (one, other) = (place("a1_one", "one"), place("a1_other", "other"));
    let load = |place: &Ground<'_>| postgres().load(place, &schema, &blueprint, &[], &mut |_| {});
    load(&one).unwrap();
    load(&other).unwrap();
    let served = postgres().serve(&one, &[]).unwrap();
    assert!(served.caution().unwrap().contains("have the rights of its user"));
    let stamp = served.stamp().unwrap();
    // A second reader is welcome, and nobody takes it away or makes it anew meanwhile.
    let second = postgres().serve(&one, &[]).unwrap();
    assert_eq!(second.stamp().unwrap(), stamp);
    assert!(!postgres().remove(&one).unwrap());
    assert_eq!(load(&one).unwrap_err().kind, EngineErrorKind::Busy);
    let swept = postgres().sweep(Some(&url), "one").unwrap();
    assert_eq!((swept.removed, swept.in_use, swept.of_others), (0, 1, 1));
    // Contenders write nothing there either, and whoever does is noticed.
    let connection = postgres().connect(served.url(), &[]).unwrap();
    let mut session = connection.session();
    let statement = session.prepare("DELETE FROM inspection", &[]).unwrap();
    let refused = session.run(statement, &[], &mut |_: &[ValueRef<'_>]| kampf_contest::Flow::More).unwrap_err();
    assert!(refused.message.contains("read-only transaction"), "{refused}");
    drop(session);
    drop(connection);
    assert_eq!(served.stamp().unwrap(), stamp);
    server.execute(&["DELETE FROM kampf_a1_one.inspection WHERE id = 1"]);
    let deadline = std::time::Instant::now() + std::time::Duration::from_secs(20);
    while served.stamp().unwrap() == stamp {
        assert!(std::time::Instant::now() < deadline, "the server never counted it");
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    drop(served);
    drop(second);
    // What is known here no more is found by its owner's mark; what was never finished goes with the next load.
    server.execute(&["COMMENT ON SCHEMA kampf_a1_one IS 'made by Kampf: unfinished for one'"]);
    load(&place("a2_one", "one")).unwrap();
    assert_eq!(postgres().serve(&one, &[]).err().unwrap().kind, EngineErrorKind::Gone);
    let swept = postgres().sweep(Some(&url), "one").unwrap();
    assert_eq!((swept.removed, swept.in_use, swept.of_others), (1, 0, 1));
    assert!(postgres().remove(&other).unwrap());
    // With its variants it is one dataset, also where one of them has gone.
    load(&one).unwrap();
    for variant in ["11111111", "22222222", "33333333"] {
        load(&Ground { variant: Some(variant), ..one }).unwrap();
    }
    let served = postgres().serve(&one, &[]).unwrap();
    let mut beside = served.variants().unwrap();
    beside.sort_unstable();
    assert_eq!(beside, ["11111111", "22222222", "33333333"]);
    drop(served);
    assert!(postgres().remove(&Ground { variant: Some("22222222"), ..one }).unwrap());
    assert_eq!(postgres().sweep(Some(&url), "one").unwrap().removed, 1);
    // What the URL asks of sessions is its user's business, in whatever words.
    let with =
        |option: &str| format!("{url}{}options=-c%20default_transaction_read_only%3D{option}", if url.contains('?') { "&" } else { "?" });
    let own = with("false");
    load(&Ground { server: Some(&own), ..one }).unwrap();
    // Who may only read is told so, and not about contenders.
    let may_only_read = with("on");
    let place = Ground { server: Some(&may_only_read), ..one };
    let errors = [
        postgres().load(&place, &schema, &blueprint, &[], &mut |_| {}).unwrap_err(),
        postgres().remove(&place).unwrap_err(),
        postgres().sweep(Some(&may_only_read), "one").unwrap_err(),
    ];
    for error in errors {
        assert!(error.message.contains("may only read there") && !error.message.contains("contenders"), "{error}");
    }
}

#[test]
fn a_server_without_room_for_more_connections_is_said_to_be_that() {
    if !installed() {
        return;
    }
    let (schema, blueprint) = apiary();
    let loaded = Loaded::alone(&schema, &blueprint, &[]);
    loaded.execute(&["ALTER ROLE kampf_reader CONNECTION LIMIT 0"]);
    let error = postgres().connect(loaded.served().url(), &[]).err().unwrap();
    assert_eq!(error.kind, EngineErrorKind::Unreachable, "{error}");
    assert!(error.message.contains("too many connections") && !error.message.contains("disk"), "{error}");
    assert!(error.message.contains("end some of them, or raise max_connections"), "{error}");
}

#[test]
fn a_server_that_freezes_is_not_waited_for_without_end() {
    if !installed() {
        return;
    }
    let (schema, blueprint) = apiary();
    let mut loaded = Loaded::alone(&schema, &blueprint, &[]);
    let url = loaded.own_url();
    let folder = tempfile::tempdir().unwrap();
    let place = Ground { folder: folder.path(), server: Some(&url), name: "5f", owner: "test", variant: None };
    postgres().load(&place, &schema, &blueprint, &[], &mut |_| {}).unwrap();
    let served = postgres().serve(&place, &[]).unwrap();
    let data = std::path::PathBuf::from(loaded.served().place());
    let postmaster = std::fs::read_to_string(data.join("postmaster.pid")).unwrap().lines().next().unwrap().to_owned();
    let all = || {
        let children = std::fs::read_to_string(format!("/proc/{postmaster}/task/{postmaster}/children")).unwrap();
        children.split_whitespace().map(str::to_owned).chain([postmaster.clone()]).collect::<Vec<_>>()
    };
    let signal = |name: &str| all().iter().for_each(|pid| drop(std::process::Command::new("kill").args([name, pid]).status()));
    signal("-STOP");
    std::thread::scope(|scope| {
        let asked = scope.spawn(|| postgres().version(Some(&url)).unwrap_err().message);
        let stopped = served.stamp().unwrap_err();
        assert!(stopped.message.contains("stopped answering") || stopped.message.contains("does not answer"), "{stopped}");
        assert!(asked.join().unwrap().contains("does not answer within 10 s"));
    });
    signal("-CONT");
    drop(served);
    // One that is halted is ended all the same.
    std::process::Command::new("kill").args(["-STOP", &postmaster]).status().unwrap();
    loaded.served = None;
    assert!(!std::path::Path::new("/proc").join(&postmaster).exists());
}

/// A connection pooler before a server; none where there is no such program.
struct Pooler {
    child: std::process::Child,
    port: u16,
    /// Holds its settings.
    _folder: tempfile::TempDir,
}

impl Pooler {
    fn start(server: &str, mode: &str) -> Option<Pooler> {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir().unwrap();
        std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
        let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let (server_port, password) = (server.rsplit(':').next()?.split('/').next()?, server.split([':', '@']).nth(2)?);
        let settings = folder.path().join("pooler.ini");
        let text = format!(
            "[databases]\npostgres = host=127.0.0.1 port={server_port} user=kampf_reader password={password}\n\
             [pgbouncer]\nlisten_addr = 127.0.0.1\nlisten_port = {port}\nunix_socket_dir =\nauth_type = any\npool_mode = {mode}\n"
        );
        std::fs::write(&settings, text).unwrap();
        let mut command = std::process::Command::new("pgbouncer");
        command.arg(&settings).stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null());
        if std::fs::metadata("/proc/self").is_ok_and(|own| std::os::unix::fs::MetadataExt::uid(&own) == 0) {
            std::os::unix::process::CommandExt::uid(&mut command, 65_534);
        }
        let child = command.spawn().ok();
        if child.is_none() {
            let _ = std::io::Write::write_all(&mut std::io::stderr(), b"skipped: no pooler is installed\n");
            assert!(std::env::var("KAMPF_REQUIRE_SERVERS").as_deref() != Ok("1"), "no pooler is installed: apt install pgbouncer");
        }
        let pooler = Pooler { child: child?, port, _folder: folder };
        let deadline = std::time::Instant::now() + std::time::Duration::from_secs(20);
        while std::net::TcpStream::connect(("127.0.0.1", port)).is_err() {
            assert!(std::time::Instant::now() < deadline, "the pooler does not start");
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
        Some(pooler)
    }
}

impl Drop for Pooler {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[test]
fn a_pooler_before_the_server_is_recognised_before_anything_is_made() {
    if !installed() {
        return;
    }
    let (schema, blueprint) = apiary();
    let loaded = Loaded::alone(&schema, &blueprint, &[]);
    let server = loaded.served().tcp_url().unwrap();
    for (mode, more, expected) in [
        ("transaction", "", "takes no settings"),
        ("transaction", "ignore_startup_parameters = options\n", "in transaction mode"),
        ("statement", "ignore_startup_parameters = options\n", "in transaction mode"),
        ("session", "ignore_startup_parameters = extra_float_digits,options\n", "search_path is `\"$user\", public` and not `kampf_probe`"),
    ] {
        let Some(pooler) = Pooler::start(&server, &format!("{mode}\n{more}")) else { return };
        let url = format!("postgres://talva@127.0.0.1:{}/postgres", pooler.port);
        let folder = tempfile::tempdir().unwrap();
        let place = Ground { folder: folder.path(), server: Some(&url), name: "6f", owner: "test", variant: None };
        for error in
            [postgres().version(Some(&url)).unwrap_err(), postgres().load(&place, &schema, &blueprint, &[], &mut |_| {}).unwrap_err()]
        {
            assert!(error.message.contains("a connection pooler") && error.message.contains(expected), "{mode}: {error}");
            assert!(error.message.contains("name the server itself in the URL"), "{mode}: {error}");
        }
    }
}
