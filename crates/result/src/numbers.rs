//! Numbers as people read them.

use kampf_contest::Quantity;

/// A duration in nanoseconds with three digits and its unit: `730 ns`, `4.21 ms`, `1.50 s`.
pub fn duration(nanos: f64) -> String {
    let (value, unit) = match nanos {
        n if n < 999.5 => (n, "ns"),
        n if n < 999.5e3 => (n / 1e3, "us"),
        n if n < 999.5e6 => (n / 1e6, "ms"),
        n => (n / 1e9, "s"),
    };
    match value {
        v if unit == "ns" || v >= 99.95 => format!("{v:.0} {unit}"),
        v if v >= 9.995 => format!("{v:.1} {unit}"),
        v => format!("{v:.2} {unit}"),
    }
}

/// So many things, by their word: `1 round`, `1,204 rounds`.
pub fn counted(number: u64, one: &str, many: &str) -> String {
    format!("{} {}", count(number), if number == 1 { one } else { many })
}

/// So many rows.
pub fn rows_of(number: u64) -> String {
    counted(number, "row", "rows")
}

/// A number of what something counts.
pub fn quantity(of: Quantity, value: u64) -> String {
    match of {
        Quantity::Number => count(value),
        Quantity::Bytes => bytes(value),
        Quantity::Share => percent(value as f64 / 1_000.0),
    }
}

/// Bytes with their unit: `812 B`, `4.1 KiB`, `32 MiB`.
pub fn bytes(bytes: u64) -> String {
    let (value, unit) = match bytes as f64 {
        b if b < 1024.0 => return format!("{bytes} B"),
        b if b < 1024.0 * 1024.0 => (b / 1024.0, "KiB"),
        b if b < 1024.0 * 1024.0 * 1024.0 => (b / (1024.0 * 1024.0), "MiB"),
        b => (b / (1024.0 * 1024.0 * 1024.0), "GiB"),
    };
    if value >= 9.95 { format!("{value:.0} {unit}") } else { format!("{value:.1} {unit}") }
}

/// A whole number with its thousands apart: `200,000`.
pub fn count(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::new();
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

/// How far behind: `+34 %`, from twice as long on `x5.2`.
pub fn behind(ratio: f64) -> String {
    match ratio {
        r if r >= 9.95 => format!("x{r:.0}"),
        r if r >= 2.0 => format!("x{r:.1}"),
        r => share(r - 1.0),
    }
}

/// A share with its sign: `+34 %`, `-3 %`, `+0.4 %`.
pub fn share(share: f64) -> String {
    let percent = share * 100.0;
    let text = if percent.abs() < 9.95 { format!("{percent:+.1} %") } else { format!("{percent:+.0} %") };
    if text == "-0.0 %" { "+0.0 %".to_owned() } else { text }
}

/// A share without a sign: `34 %`, `0.4 %`.
pub fn percent(share: f64) -> String {
    let percent = share * 100.0;
    let whole = percent >= 9.95 || (percent - percent.round()).abs() < 0.005;
    if whole { format!("{percent:.0} %") } else { format!("{percent:.1} %") }
}

/// A time to wait, in seconds: `40 s`, `17 min`, `3 h`.
pub fn wait(seconds: f64) -> String {
    match seconds {
        s if s < 100.0 => format!("{:.0} s", s.max(1.0)),
        s if s < 6000.0 => format!("{:.0} min", s / 60.0),
        s => format!("{:.0} h", s / 3600.0),
    }
}

/// A number to two digits, where it is only an estimate: `750` for 749.
pub fn about(number: usize) -> u64 {
    let number = number as u64;
    let grain = 10u64.pow(number.checked_ilog10().unwrap_or(0).saturating_sub(1));
    (number + grain / 2) / grain * grain
}

/// Names in a sentence: `a`, `a and b`, `a, b and c`.
pub fn list(names: &[String]) -> String {
    match names {
        [] => String::new(),
        [one] => one.clone(),
        [head @ .., last] => format!("{} and {last}", head.join(", ")),
    }
}

/// Between which changes a ratio surely lies, in a sentence: `between +11 % and x2.8`.
pub fn between(low: f64, high: f64) -> String {
    format!("between {} and {}", behind(low), behind(high))
}

/// Between which changes a ratio surely lies: `+3.1 to +4.4 %`, from twice as long on `x2.1 to x2.4`.
pub fn interval(low: f64, high: f64) -> String {
    let (low_text, high_text) = (behind(low), behind(high));
    match low_text.strip_suffix(" %").filter(|_| high_text.ends_with('%')) {
        Some(low) => format!("{low} to {high_text}"),
        None => format!("{low_text} to {high_text}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_short_and_keep_their_size() {
        assert_eq!(
            [0.0, 730.4, 999.6, 4_210.0, 38_249_000.0, 999_600_000.0, 1.5e9].map(duration),
            ["0 ns", "730 ns", "1.00 us", "4.21 us", "38.2 ms", "1.00 s", "1.50 s"]
        );
        assert_eq!([0, 1023, 4200, 32 << 20, 3 << 30].map(bytes), ["0 B", "1023 B", "4.1 KiB", "32 MiB", "3.0 GiB"]);
        assert_eq!([0, 999, 1000, 1_234_567].map(count), ["0", "999", "1,000", "1,234,567"]);
        assert_eq!([1.0, 1.004, 1.34, 1.999, 2.04, 45.3].map(behind), ["+0.0 %", "+0.4 %", "+34 %", "+100 %", "x2.0", "x45"]);
        assert_eq!(share(-0.0001), "+0.0 %");
        assert_eq!([0.2, 40.4, 1010.0, 9000.0].map(wait), ["1 s", "40 s", "17 min", "2 h"]);
        assert_eq!([0, 7, 42, 749, 1234].map(about), [0, 7, 42, 750, 1200]);
        assert_eq!(percent(0.02), "2 %");
        assert_eq!((percent(0.014), percent(0.5)), ("1.4 %".to_owned(), "50 %".to_owned()));
        assert_eq!((interval(0.98, 1.044), interval(1.9, 2.4)), ("-2.0 to +4.4 %".to_owned(), "+90 % to x2.4".to_owned()));
    }
}
