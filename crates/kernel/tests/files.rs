//! Files as programs without a library find them: /proc, mapped files, directories, polling, files from outside, and snapshots.

mod common;

use common::{Station, buffer, startup, system};
use sotto_kernel::{Change, ChangeKind, HOME, Startup};

fn with(station: &Station) -> Startup {
    Startup { folders: vec![station.folder(HOME)], ..startup() }
}

#[test]
fn proc_tells_of_the_program() {
    let read = |name: &str| {
        let open = format!("2, {name}, 0, 0");
        let (results, mut system) = system(&[&open, "0, 3, buffer, 8000"], &startup());
        assert_eq!(results[0], 3);
        (results[1], buffer(&mut system))
    };
    let (count, line) = read("line");
    assert_eq!((count, line.as_str()), (15, "bin/lamp"));
    let (_, maps) = read("maps");
    assert!(maps.lines().any(|line| line.contains("r-xp") && line.ends_with("[code]")), "{maps}");
    assert!(maps.lines().any(|line| line.contains("rw-p") && line.ends_with("[stack]")), "{maps}");
    let (_, status) = read("status");
    assert!(status.starts_with("Name:\tlamp\nUmask:\t0022\n"), "{status}");
}

#[test]
fn a_file_is_mapped_with_what_it_holds_and_zeros_behind() {
    let given = with(&Station::new(&[("log", "02:40 fog")]));
    let map = "9, 0, 4096, 3, 2, 3, 0";
    let (results, mut system) = system(
        &[
            "2, log, 0, 0",
            map,
            "9, 0, 4096, 3, 1, 3, 0",
            "9, 0, 4096, 1, 2, 3, 100",
            "9, 0, 4096, 1, 2, 1, 0",
        ],
        &given,
    );
    let mut bytes = [1; 12];
    system.machine.memory_mut().read_bytes(results[1] as u64, &mut bytes).unwrap();
    assert_eq!(&bytes, b"02:40 fog\0\0\0");
    // The file was not opened to be written; an offset is a number of pages; a pipe has no pages.
    assert_eq!(results[2..], [-13, -22, -13]);
}

#[test]
fn directories_are_read_in_the_order_of_names_and_in_pieces() {
    let given = with(&Station::new(&[("north", ""), ("east", ""), ("lamps/north", "")]));
    // The directory itself and its parent; then `east`, `lamps` and `north`: an entry of 19 bytes and a name, at multiples of 8.
    let (results, _) = system(
        &[
            "2, here, 0, 0",
            "217, 3, buffer, 10",
            "217, 3, buffer, 48",
            "217, 3, buffer, 4096",
            "217, 3, buffer, 4096",
        ],
        &given,
    );
    assert_eq!(results[1..], [-22, 48, 24 + 32 + 32, 0]);
}

#[test]
fn what_is_polled_is_ready_at_its_end_or_always() {
    let (results, mut system) = system(
        // Standard input, whose end is told unasked; then no descriptor at all, for a millisecond.
        &["7, fds, 1, 0", "7, 0, 0, 1", "7, 0, 2000, 0", "7, 16, 1, 0", "35, 16, 0"],
        &startup(),
    );
    assert_eq!(results, [1, 0, -22, -14, -14]);
    assert!(system.machine.time() >= 1_000_000);
}

/// What is written into a shared mapping is the file's at once, and what is written to the file is the mapping's.
#[test]
fn memory_and_file_are_one_in_a_shared_mapping() {
    let given = with(&Station::new(&[("log", "02:40 fog")]));
    let (results, mut system) = system(
        &[
            "2, log, 2, 0",
            "9, 0, 4096, 3, 1, 3, 0",
            "0, 3, [mapped], 3",
            "18, 3, line, 5, 0",
            "17, 3, buffer, 100, 0",
            "77, 3, 4",
            "17, 3, buffer, 100, 0",
            "26, [mapped], 4096, 4",
            "11, [mapped], 4096",
        ],
        &given,
    );
    assert_eq!(results[0], 3);
    assert_eq!(results[2..], [3, 5, 9, 0, 4, 0, 0]);
    let changes = system.changes(&given.folders[0]);
    let file = ChangeKind::File { bytes: b"/pro".to_vec(), permissions: 0o755 };
    assert_eq!(changes, [Change { path: b"log".to_vec(), kind: file }]);
}

/// A folder is read as far as it is wanted, and once, whatever becomes of it outside.
#[test]
fn a_folder_is_read_when_it_is_wanted_and_once() {
    let station = Station::new(&[("lamps/north", "lit"), ("bells/fog", "silent")]);
    let given = with(&station);
    let (results, mut system) = system(&["2, deep, 0, 0", "0, 3, buffer, 9"], &given);
    assert_eq!(results, [3, 3]);
    assert_eq!(station.reads(), ["", "lamps", "lamps/north"]);
    station.put("lamps/north", "dark");
    assert!(system.changes(&given.folders[0]).is_empty());
    assert_eq!(station.reads(), ["", "lamps", "lamps/north"]);
}

/// What a program changed is told in an order in which it can be done again.
#[test]
fn changes_are_told() {
    let station = Station::new(&[("lamps/north", "lit"), ("lamps/south", "dark"), ("log", "fog")]);
    let given = with(&station);
    let calls = [
        // Write, link, take away, rename, make, change the mode; a directory that moves takes its files along.
        "2, deep, 1, 0",
        "1, 3, log, 3",
        "88, deep, line",
        "90, log, 0o600",
        "82, lamps, west",
        "83, fogs, 0o700",
    ];
    let (results, mut system) = system(&calls, &given);
    assert_eq!(results, [3, 3, -17, 0, 0, 0]);
    let changes = system.changes(&given.folders[0]);
    let told = changes.iter().map(|change| {
        let path = String::from_utf8(change.path.clone()).unwrap();
        match &change.kind {
            ChangeKind::File { bytes, .. } => format!("{path}={}", String::from_utf8_lossy(bytes)),
            other => format!("{path} {other:?}"),
        }
    });
    assert_eq!(
        told.collect::<Vec<_>>(),
        [
            "lamps/north FileRemoved",
            "lamps/south FileRemoved",
            "lamps DirectoryRemoved",
            "fogs DirectoryMade",
            "fogs Permissions(448)",
            "log Permissions(384)",
            "west DirectoryMade",
            "west/north=log",
            "west/south=dark",
            "west Permissions(493)",
        ]
    );
    // Going back finds the folder as it was.
    let snapshot = system.snapshot();
    system.restore(&snapshot);
    assert_eq!(system.changes(&given.folders[0]), changes);
}

#[test]
fn a_folder_that_has_no_place_is_refused() {
    let station = Station::new(&[]);
    for guest in [&b"/etc/passwd"[..], b"/etc/passwd/deep"] {
        let startup = Startup { folders: vec![station.folder(guest)], ..startup() };
        let error = common::start("", &startup).1.err().unwrap().to_string();
        assert!(error.starts_with("there is no place for a folder at /etc/passwd"), "{error}");
    }
    let twice = vec![station.folder(HOME), station.folder(HOME)];
    assert!(common::start("", &Startup { folders: twice, ..startup() }).1.is_err());
}
