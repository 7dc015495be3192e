//! The program as somebody types it.

use std::os::unix::fs::PermissionsExt;
use std::process::{Command, Stdio};

use crate::town::{Person, Town, event};

fn run(args: &[&str]) -> (bool, String) {
    let done = Command::new(env!("CARGO_BIN_EXE_matricle")).args(args).output().unwrap();
    let said = [done.stdout, done.stderr].concat();
    (done.status.success(), String::from_utf8(said).unwrap())
}

#[test]
fn examples_are_printed_and_mistakes_are_said_in_a_sentence() {
    assert!(run(&["example-config"]).1.starts_with("# How Matricle runs"));
    assert!(run(&["example-event"]).1.contains("[[tickets]]"));
    let (fine, said) = run(&["serve", "--config", "/nowhere/matricle.toml"]);
    assert!(
        !fine && said.contains("the configuration /nowhere/matricle.toml cannot be read"),
        "{said}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_process_on_the_same_folder_is_refused_with_a_sentence() {
    let mut town = Town::found(&event(10, "0"));
    town.open().await;
    for command in ["serve", "check"] {
        let second = town.command(command).stderr(Stdio::piped()).output().unwrap();
        let said = String::from_utf8(second.stderr).unwrap();
        assert!(
            !second.status.success() && said.contains("another Matricle is running on"),
            "{said}"
        );
    }
    assert!(town.stop().success());
    town.is_sound();
    let twice = town
        .command("import")
        .arg(town.path("event.toml"))
        .stderr(Stdio::piped())
        .output()
        .unwrap();
    assert!(!twice.status.success(), "the address is taken");
    let mut short = town.command("person");
    short.args(["--name", "A", "--email", "a@b.example", "--role", "organiser"]);
    let short = short.stdin(Stdio::null()).stderr(Stdio::piped()).output().unwrap();
    assert!(String::from_utf8(short.stderr).unwrap().contains("at least 10 characters"));
}

/// What a command says of a town that it cannot work with.
fn refused(town: &Town, command: &str) -> String {
    let done = town.command(command).stderr(Stdio::piped()).output().unwrap();
    let said = String::from_utf8(done.stderr).unwrap();
    assert!(!done.status.success(), "{command} went on: {said}");
    said
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_wrong_with_a_folder_is_said_in_a_sentence_and_nothing_is_made_anew() {
    let mut town = Town::found(&event(10, "0"));
    town.open().await;
    let mut person = Person::new();
    let own = person.keep(&town.url, "1").await.unwrap().unwrap();
    person.book(&own, "Ana", 1).await.unwrap();
    assert!(town.stop().success());
    // A clean stop leaves one file that is the whole house, for nobody else to read.
    let data = town.path("data");
    let mode =
        |name: &str| std::fs::metadata(data.join(name)).unwrap().permissions().mode() & 0o777;
    assert_eq!((mode(""), mode("matricle.sqlite"), mode("secret")), (0o700, 0o600, 0o600));
    let log = std::fs::metadata(data.join("matricle.sqlite-wal"));
    assert!(log.map_or(true, |log| log.len() == 0));
    let (file, whole) =
        (data.join("matricle.sqlite"), std::fs::read(data.join("matricle.sqlite")).unwrap());
    let copied = tempfile::tempdir().unwrap();
    std::fs::write(copied.path().join("copy.sqlite"), &whole).unwrap();
    let copy = matricle_store::Store::writer(&copied.path().join("copy.sqlite")).unwrap();
    let booked: i64 = copy
        .query_row("SELECT count(*) FROM bookings WHERE state = 'confirmed'", [], |r| r.get(0))
        .unwrap();
    assert_eq!(booked, 1, "the copy has what was booked last");
    drop(copy);

    let mut spoiled = whole.clone();
    let middle = spoiled.len() / 2;
    spoiled[middle..middle + 8192].fill(0x5a);
    spoiled[100..140].fill(0x5a);
    std::fs::write(&file, &spoiled).unwrap();
    assert!(refused(&town, "check").contains("damaged"), "{}", refused(&town, "check"));
    std::fs::write(&file, b"").unwrap();
    let said = refused(&town, "serve");
    assert!(said.contains("no database") || said.contains("empty"), "{said}");
    std::fs::write(&file, &whole).unwrap();
    let secret = std::fs::read(data.join("secret")).unwrap();
    std::fs::remove_file(data.join("secret")).unwrap();
    assert!(refused(&town, "serve").contains("secret"));
    assert!(!data.join("secret").exists(), "no new one is made");
    std::fs::write(data.join("secret"), &secret).unwrap();
    for (sql, word) in [
        ("PRAGMA user_version = 99", "newer"),
        (
            "INSERT INTO audit (at, who, what, from_where) VALUES (4000000000000000, 'a', 'b', '')",
            "clock",
        ),
    ] {
        let conn = matricle_store::Store::writer(&file).unwrap();
        conn.execute_batch(sql).unwrap();
        drop(conn);
        let said = refused(&town, "serve");
        assert!(said.contains(word), "{word}: {said}");
        std::fs::write(&file, &whole).unwrap();
        let _ = std::fs::remove_file(data.join("matricle.sqlite-wal"));
    }
    town.is_sound();

    // A backup with a passphrase is of no use without it.
    std::fs::write(town.path("passphrase"), "smoke and honey\n").unwrap();
    let config = std::fs::read_to_string(town.path("matricle.toml")).unwrap();
    let with = format!("{config}\n[backup]\npassphrase_file = {:?}\n", town.path("passphrase"));
    std::fs::write(town.path("matricle.toml"), with).unwrap();
    std::fs::create_dir(town.path("backups")).unwrap();
    assert!(town.command("backup").arg(town.path("backups")).status().unwrap().success());
    let copy = std::fs::read_dir(town.path("backups")).unwrap().next().unwrap().unwrap().path();
    let bytes = std::fs::read(&copy).unwrap();
    assert!(!bytes.windows(6).any(|w| w == b"SQLite"));
    let (copy, into, pass) = (copy.to_str().unwrap(), town.path("into"), town.path("passphrase"));
    let (into, pass) = (into.to_str().unwrap(), pass.to_str().unwrap());
    let (fine, said) = run(&["restore", copy, "--into", into]);
    assert!(!fine && said.contains("passphrase"), "{said}");
    let (fine, said) = run(&["restore", copy, "--into", into, "--passphrase-file", pass]);
    assert!(fine && said.contains("all is well"), "{said}");
    let (fine, said) = run(&["restore", copy, "--into", into, "--passphrase-file", pass]);
    assert!(!fine && said.contains("there already"), "{said}");
}
