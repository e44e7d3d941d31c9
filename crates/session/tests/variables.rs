//! Variables of C routines by name, as the compiler's debugging information has them.

mod common;

use sotto_isa::Width;
use sotto_session::{Session, StopReason, Wrote};

const MEAN: &str = "static double scale = 1.5;
int mean(const int *table, int count)
{
    long sum = 0;
    double weight = 0.5;
    for (int i = 0; i < count; i++) {
        short depth = (short)table[i];
        sum += depth;
        weight *= scale;
    }
    {
        unsigned char sum = 200;
        count += sum;
    }
    int pair[2] = { (int)sum, count };
    return (int)(sum + pair[1]);
}
int main(void)
{
    int table[] = { 9, -3, 7, 1 };
    return mean(table, 4);
}
";

fn never() -> bool {
    false
}

/// A session of the program; `None` if there is no compiler.
fn session(compiler: &str, options: &[&str]) -> Option<Session> {
    common::compiled_session(compiler, options, "mean.c", MEAN)
}

fn until(session: &mut Session, place: &str) {
    let addresses = session.resolve_places(place).unwrap();
    assert_eq!(session.resume(&addresses, 1_000_000, &never), StopReason::Place, "{place}");
}

fn shown(session: &mut Session, name: &str) -> String {
    let format = session.variable_format(name).unwrap_or_else(|| panic!("{name}"));
    session.show(name, format).unwrap_or_else(|error| panic!("{name}: {error}"))
}

#[test]
fn variables_have_the_values_and_types_of_the_source() {
    for compiler in ["gcc", "aarch64-linux-gnu-gcc"] {
        let Some(mut session) = session(compiler, &["-O0"]) else { continue };
        assert!(session.evaluate("sum").is_err(), "before the routine runs");
        until(&mut session, "mean.c:9");
        until(&mut session, "mean.c:9");
        let values = ["sum", "depth", "i", "count", "weight"].map(|name| shown(&mut session, name));
        assert_eq!(values, ["6", "-3", "1", "4", "0.75"], "{compiler}");
        // Numbers with a sign keep it in arithmetic.
        assert_eq!(session.evaluate("depth * 2").unwrap().value, -6);
        let word = session.arch().width_word(Width::W32);
        let second = session.evaluate(&format!("{word} [table + 4]")).unwrap().value;
        assert_eq!(second as u32 as i32, -3);
        let names: Vec<String> = session.variables().into_iter().map(|v| v.name).collect();
        assert_eq!(names, ["count", "depth", "i", "pair", "sum", "table", "weight"], "{compiler}");
        // The innermost block's comes first.
        until(&mut session, "mean.c:13");
        assert_eq!(shown(&mut session, "sum"), "200");
        until(&mut session, "mean.c:16");
        assert_eq!(shown(&mut session, "sum"), "14");
        let pair = session.evaluate("pair").unwrap();
        assert_eq!(pair.width, None);
        assert_eq!(session.evaluate(&format!("{word} [pair + 4]")).unwrap().value, 204);
    }
}

#[test]
fn a_variable_is_watched_where_it_is_and_tells_who_wrote_it() {
    let Some(mut session) = session("gcc", &["-O0"]) else { return };
    until(&mut session, "mean.c:6");
    session.add_watch("sum").unwrap();
    for sum in [9, 6, 13, 14] {
        assert!(matches!(session.resume(&[], 1_000_000, &never), StopReason::Watch(_)));
        assert_eq!(session.evaluate("sum").unwrap().value, sum);
    }
    let target = session.target("weight").unwrap();
    let Wrote::Instruction(writer) = session.who(target) else { panic!("nothing wrote weight") };
    assert_eq!(writer.report.place.line, Some(9));
}

#[test]
fn optimised_code_tells_of_what_it_keeps_in_registers() {
    let Some(mut session) = session("gcc", &["-Og"]) else { return };
    until(&mut session, "mean");
    assert_eq!(shown(&mut session, "count"), "4");
    assert_eq!(session.variables().iter().find(|v| v.name == "count").unwrap().place, "rsi");
}
