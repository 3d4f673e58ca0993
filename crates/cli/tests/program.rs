//! The built program without a service: usage, errors, exit codes.
#![allow(clippy::unwrap_used, reason = "a test stops at the first surprise")]

use std::process::{Command, Output, Stdio};

fn run(arguments: &[&str], variables: &[(&str, &str)]) -> Output {
    let home = tempfile::tempdir().unwrap();
    let mut command = Command::new(env!("CARGO_BIN_EXE_waverant"));
    command.args(arguments).env_clear().env("HOME", home.path()).envs(variables.iter().copied());
    command.stdin(Stdio::null()).output().unwrap()
}

fn errors(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

#[test]
fn without_an_account_it_says_how_to_sign_in() {
    let output = run(&["channel", "list"], &[]);
    assert_eq!(output.status.code(), Some(2));
    assert_eq!(
        errors(&output),
        "waverant: no service is known yet\n          Sign in first: waverant sign-in URL (or set WAVERANT_URL and WAVERANT_TOKEN).\n"
    );
    assert!(output.stdout.is_empty());
}

#[test]
fn an_unreachable_service_is_named() {
    // Bound and dropped: nobody listens there.
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let url = format!("http://127.0.0.1:{port}");
    let output = run(&["live", "show"], &[("WAVERANT_URL", &url), ("WAVERANT_TOKEN", "t")]);
    assert_eq!(output.status.code(), Some(2));
    assert!(errors(&output).contains(&format!("the service at {url} cannot be reached")), "{}", errors(&output));
}

#[test]
fn a_password_is_never_taken_from_the_command_line() {
    let output = run(&["sign-in", "127.0.0.1:1", "--name", "harbour"], &[]);
    assert_eq!(output.status.code(), Some(2));
    assert!(errors(&output).contains("use --password-file"), "{}", errors(&output));
}

#[test]
fn help_names_the_exit_codes_and_completions_are_made() {
    let help = String::from_utf8(run(&["--help"], &[]).stdout).unwrap();
    assert!(help.contains("Exit codes: 0 done; 1 the service said no; 2 the command could not run."), "{help}");
    let script = String::from_utf8(run(&["completions", "bash"], &[]).stdout).unwrap();
    assert!(script.contains("_waverant"));
}
