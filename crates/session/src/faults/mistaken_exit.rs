//! Programs that die since they made `exit` by the number of another machine.

use sotto_kernel::table;

use crate::Session;

impl Session {
    /// What to say if the last system call, just before the program died, has the number of `exit` on another machine.
    pub(crate) fn mistaken_exit(&self) -> Option<String> {
        const LATELY: u64 = 8;
        let call = self.system.completed_calls().last()?;
        let lately = call.moment + LATELY >= self.moment();
        let (abi, number) = (call.report.abi, call.report.number);
        let elsewhere = table::elsewhere(abi, number);
        let (machine, exit) = elsewhere.into_iter().find(|(_, row)| lately && row.exits())?;
        let (name, own_name) = (exit.name, abi.name());
        let own = exit.number_in(abi)?;
        Some(format!("{number} is `{name}` on {machine}; on {own_name} `{name}` is {own}"))
    }
}
