//! The program as somebody types it.

use std::process::{Command, Stdio};

use crate::town::{Town, event};

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
