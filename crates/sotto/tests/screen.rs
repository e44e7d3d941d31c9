//! The full screen as a person has it: keys pressed, and what then stands on the screen.

mod common;

use common::terminal::Terminal;
use common::{Folder, demo};
use nix::sys::signal::Signal;

const RIGHT: &str = "\u{1b}[C";
const LEFT: &str = "\u{1b}[D";
const UP: &str = "\u{1b}[A";
const DOWN: &str = "\u{1b}[B";
const HOME: &str = "\u{1b}[H";
const END: &str = "\u{1b}[F";
const F1: &str = "\u{1b}OP";
const F2: &str = "\u{1b}OQ";
const F3: &str = "\u{1b}OR";
const F5: &str = "\u{1b}[15~";
const PAGE_DOWN: &str = "\u{1b}[6~";
const CONTROL_C: &str = "\u{3}";
const CONTROL_Q: &str = "\u{11}";
const CONTROL_Z: &str = "\u{1a}";

fn flash() -> Folder {
    Folder::new(&[("flash.s", &demo("flash.s"))])
}

fn start(folder: &Folder, columns: u16, rows: u16) -> Terminal {
    Terminal::start(folder, &["step", "flash.s"], columns, rows)
}

fn leave(terminal: &mut Terminal) {
    terminal.press(CONTROL_Q);
    assert!(terminal.end().success());
    terminal.wait_given_back();
}

/// The line of the screen that has a text in it.
fn line_with<'a>(screen: &'a str, text: &str) -> &'a str {
    screen.lines().find(|line| line.contains(text)).unwrap_or_else(|| panic!("`{text}`:\n{screen}"))
}

#[test]
fn arrows_step_and_go_back_and_values_stand_at_the_line_ends() {
    let folder = flash();
    let mut terminal = start(&folder, 120, 40);
    let screen = terminal.wait_for("▶17");
    for pane in ["flash.s", "registers", "stack of _start", "what happened", "memory at", "output"]
    {
        line_with(&screen, pane);
    }
    terminal.press(RIGHT);
    let screen = terminal.wait_for("▶18");
    assert!(line_with(&screen, "mov     edi, pattern").contains("edi = 0xe60 (3680)"));
    assert!(line_with(&screen, "rdi ").contains("•"), "{screen}");
    terminal.press(&[RIGHT, RIGHT, RIGHT, RIGHT].concat());
    let screen = terminal.wait_for("zero: the result is 3680");
    assert!(screen.contains("#5"), "{screen}");
    assert!(line_with(&screen, "saved rbx").contains("[rsp]"), "{screen}");
    terminal.press(LEFT);
    terminal.wait_for("#4 of 5");
    terminal.press(HOME);
    terminal.wait_for("#0 of 5");
    terminal.press(END);
    let screen = terminal.wait_for("ended with status 0");
    assert!(screen.contains("bright enough"), "{screen}");
    leave(&mut terminal);
}

#[test]
fn lines_are_gone_over_with_what_they_call_and_back() {
    let folder = flash();
    let mut terminal = start(&folder, 120, 40);
    terminal.wait_for("▶17");
    terminal.press(DOWN);
    terminal.wait_for("▶18");
    terminal.press(DOWN);
    terminal.wait_for("▶19");
    terminal.press(UP);
    terminal.wait_for("▶18");
    leave(&mut terminal);
}

#[test]
fn commands_are_typed_completed_answered_and_repeated() {
    let folder = flash();
    let mut terminal = start(&folder, 120, 40);
    terminal.wait_for("▶17");
    terminal.press("until lit_\t\r");
    terminal.wait_for("▶41");
    terminal.press("break at 45 after 3\r");
    terminal.wait_for("breakpoint 1 at flash.s:45");
    terminal.press(END);
    let screen = terminal.wait_for("breakpoint 1, 3 times now");
    assert!(line_with(&screen, "jz      .done").starts_with('◉'), "{screen}");
    terminal.press("change ebx to 7\r");
    let screen = terminal.wait_for("history goes on from here");
    assert!(screen.contains("rbx 7"), "{screen}");
    terminal.press("show ebx\r");
    terminal.wait_for("ebx = 7");
    terminal.press("mem bright as text\r");
    terminal.wait_for("bright enough");
    terminal.press("frobnicate\r");
    terminal.wait_for("no command `frobnicate`");
    terminal.press("quit\r");
    assert!(terminal.end().success());
    terminal.wait_given_back();
}

#[test]
fn breakpoints_watches_and_shown_values_are_there_again_the_next_time() {
    let folder = flash();
    let mut terminal = start(&folder, 120, 40);
    terminal.wait_for("▶17");
    terminal.press("break at lit_seconds when edi == 0\rwatch ebx\rshow edi as binary\r");
    terminal.wait_for("edi as binary =");
    leave(&mut terminal);
    let mut again = start(&folder, 120, 40);
    again.wait_for("edi as binary =");
    again.press("breaks\r");
    again.wait_for("watch ebx");
    again.press("unbreak 1\runbreak 2\runshow edi\r");
    again.wait_for("what happened");
    leave(&mut again);
    let state: Vec<_> = std::fs::read_dir(folder.path("state/sotto")).unwrap().collect();
    assert!(state.is_empty(), "nothing is left to keep");
}

#[test]
fn help_lists_keys_and_commands_and_any_key_closes_it() {
    let folder = flash();
    let mut terminal = start(&folder, 200, 60);
    terminal.wait_for("▶17");
    terminal.press(F1);
    let screen = terminal.wait_for("Keys, while nothing is typed");
    assert!(screen.contains("go to what last wrote it"), "{screen}");
    terminal.press(" ");
    terminal.wait_for("▶17");
    leave(&mut terminal);
}

#[test]
fn every_pane_takes_the_focus_scrolls_and_shows_instructions_when_asked() {
    let folder = flash();
    let mut terminal = start(&folder, 120, 40);
    terminal.wait_for("▶17");
    terminal.press(F2);
    terminal.wait_for("401005   call lit_seconds");
    terminal.press(F2);
    for title in ["registers", "stack of", "what happened", "memory at", "output"] {
        terminal.press("\t");
        terminal.wait_for(&format!("▶ {title}"));
        terminal.press(PAGE_DOWN);
    }
    terminal.press("\t");
    terminal.wait_for("▶ flash.s");
    terminal.press(PAGE_DOWN);
    terminal
        .wait_until("the last line", |screen| screen.contains("52 ") && !screen.contains("▶17"));
    terminal.press("\u{1b}");
    terminal.wait_for("▶17");
    leave(&mut terminal);
}

#[test]
fn vector_registers_stand_in_the_place_of_the_others_when_asked() {
    let folder = Folder::new(&[("swell.s", &demo("swell.s"))]);
    let mut terminal = Terminal::start(&folder, &["step", "swell.s"], 120, 40);
    terminal.wait_for("rax");
    terminal.press(F3);
    terminal.wait_for("vectors of f64, the lowest element first");
    assert!(!terminal.text().contains("rax"));
    // What the next instruction will change is marked before, and what it changed after.
    assert!(line_with(&terminal.text(), "xmm0").contains("›xmm0"));
    terminal.press(RIGHT);
    terminal.wait_for("•›xmm0  1.25  0.75");
    terminal.press(F3);
    terminal.wait_for("rax");
    leave(&mut terminal);
}

#[test]
fn the_screen_fits_every_size_and_follows_a_resize() {
    let folder = flash();
    for (columns, rows) in [(80, 24), (120, 40), (200, 60), (20, 5), (40, 12), (3, 2), (1, 1)] {
        let mut terminal = start(&folder, columns, rows);
        if columns >= 20 {
            terminal.wait_for("17");
        }
        terminal.press(&[RIGHT, RIGHT, RIGHT, LEFT].concat());
        let wanted = match columns {
            80.. => "#2 of 3",
            // Without a timeline, the line itself.
            20.. => "▶41",
            _ => "",
        };
        let screen = terminal.wait_for(wanted);
        if columns >= 60 {
            insta::assert_snapshot!(format!("screen_{columns}x{rows}"), screen);
        }
        for (columns, rows) in [(100, 30), (20, 5), (1, 1), (90, 25)] {
            terminal.resize(columns, rows);
        }
        terminal.wait_for("registers");
        leave(&mut terminal);
    }
}

#[test]
fn without_unicode_every_mark_is_plain() {
    let folder = flash();
    let variables = [("LANG", "C"), ("LC_CTYPE", "C")];
    let words = ["step", "flash.s"];
    let mut terminal = Terminal::start_with(&folder, &words, 100, 30, &variables);
    terminal.wait_for(">17");
    terminal.press(RIGHT);
    let screen = terminal.wait_for(">18");
    assert!(screen.is_ascii(), "{screen}");
    leave(&mut terminal);
}

#[test]
fn a_runaway_program_is_stopped_by_a_key_and_resized_while_it_runs() {
    let text = " .target x86-64\n .global _start\n_start: inc rcx\n jmp _start\n";
    let folder = Folder::new(&[("fog.s", text)]);
    let mut terminal = Terminal::start(&folder, &["step", "fog.s"], 100, 30);
    terminal.wait_for("▶3");
    terminal.press(END);
    terminal.wait_for("running");
    terminal.resize(120, 40);
    terminal.press(CONTROL_C);
    terminal.wait_for("interrupted");
    terminal.press(LEFT);
    terminal.wait_for(" of ");
    leave(&mut terminal);
}

#[test]
fn suspending_gives_the_terminal_back_and_going_on_draws_again() {
    let folder = flash();
    // Somebody must be there to go on with us: a shell with job control.
    let sotto = assert_cmd::cargo::cargo_bin("sotto").display().to_string();
    let script = format!("{sotto} step flash.s; echo stopped; read line; fg; echo over");
    let shell = std::path::Path::new("/bin/sh");
    let words = ["-m", "-c", &script];
    let mut terminal = Terminal::start_program(&folder, shell, &words, 100, 30, &[]);
    terminal.wait_for("▶17");
    terminal.press(CONTROL_Z);
    terminal.wait_for("stopped");
    terminal.wait_given_back();
    terminal.press("\r");
    terminal.wait_for("▶17");
    terminal.press(RIGHT);
    terminal.wait_for("▶18");
    terminal.press(CONTROL_Q);
    terminal.wait_for("over");
    assert!(terminal.end().success());
}

#[test]
fn a_kill_gives_the_terminal_back_and_a_closed_terminal_ends_us() {
    let folder = flash();
    let mut terminal = start(&folder, 100, 30);
    terminal.wait_for("▶17");
    terminal.signal(Signal::SIGTERM);
    assert!(!terminal.end().success());
    terminal.wait_given_back();
    let mut terminal = start(&folder, 100, 30);
    terminal.wait_for("▶17");
    terminal.close();
}

#[test]
fn reloading_returns_to_the_line_and_errors_change_nothing() {
    let folder = flash();
    let mut terminal = start(&folder, 120, 40);
    terminal.wait_for("▶17");
    terminal.press("until 47\r");
    terminal.wait_for("▶47");
    folder.write("flash.s", &format!("; Skerry\n{}", demo("flash.s")));
    terminal.press(F5);
    terminal.wait_for("▶48");
    folder.write("flash.s", &demo("flash.s").replace("adc ", "adx "));
    terminal.press(F5);
    let screen = terminal.wait_for("nothing was reloaded");
    assert!(screen.contains("no instruction `adx`"), "{screen}");
    assert!(screen.contains("▶48"), "{screen}");
    leave(&mut terminal);
}

#[test]
fn input_that_is_waited_for_is_typed_in() {
    let common::Program { text, .. } =
        common::programs("x86-64").into_iter().find(|p| !p.input.is_empty()).unwrap();
    let folder = Folder::new(&[("log.s", &text)]);
    let mut terminal = Terminal::start(&folder, &["step", "log.s"], 120, 40);
    terminal.wait_for("▶");
    terminal.press(END);
    terminal.wait_for("the program waits for input");
    terminal.press("feed 40\r");
    terminal.wait_for("will read it when it goes on");
    terminal.press(END);
    terminal.wait_for("ended with status 0");
    leave(&mut terminal);
}

#[test]
fn a_click_on_a_number_sets_a_breakpoint_and_takes_it_away() {
    let folder = flash();
    let mut terminal = Terminal::start(&folder, &["step", "flash.s", "--mouse"], 120, 40);
    let screen = terminal.wait_for("▶17");
    let row = screen.lines().position(|line| line.contains(" 19 ")).unwrap() + 1;
    terminal.press(&format!("\u{1b}[<0;4;{row}M"));
    terminal.wait_for("◉ 19");
    terminal.press(&format!("\u{1b}[<0;4;{row}M"));
    terminal.wait_until("no breakpoint", |screen| !screen.contains("◉"));
    // The wheel over the source scrolls it.
    terminal.press("\u{1b}[<65;20;10M");
    terminal.wait_until("other lines", |screen| !screen.contains("bright  db"));
    leave(&mut terminal);
}

#[test]
fn every_machine_and_a_program_without_lines_is_stepped() {
    let folder = Folder::new(&[
        ("bell.s", &demo("bell.s")),
        ("lamp.s", &demo("lamp_arm64.s")),
        ("flash.s", &demo("flash.s")),
    ]);
    folder.sotto(&["assemble", "flash.s", "-o", "flash"]).assert().success();
    std::fs::remove_file(folder.path("flash.s")).unwrap();
    for (file, first, registers) in [
        ("bell.s", "▶12", "eax"),
        ("lamp.s", "mov     x19", "x19"),
        ("flash", "code of _start", "rdi"),
    ] {
        let mut terminal = Terminal::start(&folder, &["step", file], 140, 45);
        let screen = terminal.wait_for(first);
        line_with(&screen, registers);
        terminal.press(RIGHT);
        terminal.wait_for("•");
        terminal.press(&[RIGHT, RIGHT, RIGHT, RIGHT, RIGHT, LEFT].concat());
        let screen = terminal.wait_for("#5 of 6");
        assert!(screen.contains("return address"), "{screen}");
        leave(&mut terminal);
    }
}

#[test]
fn a_fault_is_reported_and_its_line_marked() {
    let text = " .target x86-64\n .global _start\n_start: mov rbx, 7\n mov rax, [rbx]\n";
    let folder = Folder::new(&[("fog.s", text)]);
    let mut terminal = Terminal::start(&folder, &["step", "fog.s"], 120, 40);
    terminal.wait_for("▶3");
    terminal.press(END);
    let screen = terminal.wait_for("tried to read 0x7");
    line_with(&screen, "▶4  mov rax, [rbx]");
    terminal.press(LEFT);
    terminal.wait_for("▶4");
    leave(&mut terminal);
}
