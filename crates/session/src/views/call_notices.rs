//! What the program's symbols add to the notices about system calls.
//!
//! The modelled kernel sees numbers; here they have names.

use sotto_kernel::{Notice, RepeatedNotice, SyscallReport};
use sotto_object::Image;

use crate::Session;

/// The notice about a system call, with what the symbols add: an argument that is a number holds the address of data,
/// where its contents were meant.
pub(crate) fn notice(report: &SyscallReport, image: &Image) -> Option<Notice> {
    let Some((argument, symbol)) = address_for_number(report, image) else {
        return report.notice.clone();
    };
    let call = report.name.unwrap_or("the system call");
    let contents = format!("the contents are `[{symbol}]`");
    let (message, help) = match &report.notice {
        Some(notice) => (
            notice.message.clone(),
            format!("{argument} is the address of `{symbol}`, and {contents}"),
        ),
        None => (format!("the {argument} of `{call}` is the address of `{symbol}`"), contents),
    };
    Some(Notice { message, help: Some(help) })
}

/// An argument that is no address and holds that of labelled data, and the label.
fn address_for_number<'a>(
    report: &SyscallReport,
    image: &'a Image,
) -> Option<(&'static str, &'a str)> {
    let numbers = report.arguments().into_iter().filter(|argument| !argument.is_address);
    numbers.into_iter().filter(|argument| argument.value != 0).find_map(|argument| {
        let symbol = image.symbols.iter().find(|symbol| {
            symbol.address == argument.value && !symbol.absolute && symbol.datum.is_some()
        })?;
        let segment = image.segment_at(symbol.address)?;
        (!segment.exec).then_some((argument.name, symbol.name.as_str()))
    })
}

impl Session {
    /// The system calls about which there is something to say since this was last asked, each thing once.
    pub fn take_noticed(&mut self) -> Vec<RepeatedNotice> {
        let mut noticed = self.system_mut().take_noticed();
        for RepeatedNotice { call, .. } in &mut noticed {
            call.notice = notice(call, self.image());
        }
        noticed
    }
}
