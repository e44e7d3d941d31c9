//! Soundings of the channel: slices, iterators, checked arithmetic, jump tables.
#![no_std]

#[repr(u8)]
#[derive(Clone, Copy, PartialEq)]
pub enum Bottom {
    Mud,
    Sand,
    Shell,
    Rock,
}

impl Bottom {
    fn of(code: u8) -> Option<Bottom> {
        Some(match code {
            b'm' => Bottom::Mud,
            b's' => Bottom::Sand,
            b'c' => Bottom::Shell,
            b'r' => Bottom::Rock,
            _ => return None,
        })
    }
}

static NAMES: [&str; 4] = ["mud", "sand", "shell \u{2014} mostly", "rock\n\t\"hard\""];
static mut READ: u32 = 0;

#[unsafe(no_mangle)]
pub unsafe extern "C" fn channel_sum(depths: *const i32, count: usize) -> i64 {
    let depths = unsafe { core::slice::from_raw_parts(depths, count) };
    unsafe { READ += 1 };
    depths.iter().filter(|d| **d > 0).map(|d| i64::from(*d) * i64::from(d % 7)).sum()
}

#[unsafe(no_mangle)]
pub extern "C" fn channel_bottom(code: u8) -> i32 {
    let Some(bottom) = Bottom::of(code) else { return -1 };
    let name = NAMES[bottom as usize];
    let mut hash = 17i32;
    for byte in name.bytes() {
        hash = hash.rotate_left(5) ^ i32::from(byte);
    }
    match bottom {
        Bottom::Mud => hash.wrapping_mul(3),
        Bottom::Sand => hash.saturating_add(1 << 30),
        Bottom::Shell => hash.count_ones() as i32 + hash.leading_zeros() as i32,
        Bottom::Rock => hash.checked_abs().unwrap_or(i32::MAX) / 9,
    }
}

#[unsafe(no_mangle)]
pub extern "C" fn channel_mean(a: f64, b: f64, weight: f32) -> f64 {
    let w = f64::from(weight);
    let mean = (a * w + b) / (w + 1.0);
    if mean.is_nan() { 0.0 } else { mean }
}

#[unsafe(no_mangle)]
pub extern "C" fn channel_wide(a: u64, b: u64) -> u64 {
    let product = u128::from(a) * u128::from(b) + 12345;
    (product >> 64) as u64 ^ (product % 1_000_003) as u64
}

#[panic_handler]
fn panic(_: &core::panic::PanicInfo) -> ! {
    loop {}
}
