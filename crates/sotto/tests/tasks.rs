//! Threads and processes at the command line: `--interleavings`, `tasks`, and a run in which all wait.

mod common;

use common::{Folder, demo};

fn keepers() -> Folder {
    let text = demo("keepers.s");
    let locked = text.replace("inc     qword", "lock inc qword");
    // The second keeper waits too instead of waking the first.
    let stuck = text
        .replace("mov     esi, 1 ", "xor     esi, esi ")
        .replace("mov     dword [lit], 1\n", "mov     edx, 0\n");
    let stuck = stuck.replace("mov     edx, 1 ", "xor     edx, edx ");
    Folder::new(&[("keepers.s", &text), ("locked.s", &locked), ("stuck.s", &stuck)])
}

#[test]
fn a_result_that_depends_on_the_order_is_told_with_its_seed() {
    let folder = keepers();
    let words = ["run", "--interleavings", "100", "keepers.s"];
    insta::assert_snapshot!(folder.transcript(&words, ""));
    folder.sotto(&words).assert().code(1);
    let words = ["run", "--interleavings", "100", "locked.s"];
    insta::assert_snapshot!(folder.transcript(&words, ""));
    folder.sotto(&words).assert().code(0);
    let json = folder.sotto(&["run", "--json", "--interleavings", "100", "keepers.s"]).output();
    let value: serde_json::Value = serde_json::from_slice(&json.unwrap().stdout).unwrap();
    let seed = value["seed"].as_u64().unwrap().to_string();
    assert_eq!(value["in_rotation"]["ending"], "exit status 200");
    // The seed alone leads there again, and running with it is running so.
    let with_seed = folder.sotto(&["run", "--seed", &seed, "keepers.s"]).output().unwrap();
    let ending = format!("exit status {}", with_seed.status.code().unwrap());
    assert_eq!(value["with_seed"]["ending"], *ending);
    folder.sotto(&["run", "--seed", "1", "--interleavings", "2", "keepers.s"]).assert().code(125);
}

#[test]
fn the_stepper_lists_tasks_and_what_they_wait_for() {
    let script =
        "until second\ntasks\ntask 1000\nregisters rip\ntask 7\nwho [lamps]\nresume\ntasks\n";
    let words = ["step", "--plain", "keepers.s"];
    insta::assert_snapshot!(keepers().transcript(&words, script));
}

#[test]
fn a_run_in_which_all_wait_says_for_what() {
    let folder = keepers();
    insta::assert_snapshot!(folder.transcript(&["run", "stuck.s"], ""));
    folder.sotto(&["run", "stuck.s"]).assert().code(124);
}
