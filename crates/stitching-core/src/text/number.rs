//! Reading numbers.

/// Reads a number; words such as `inf` and `nan` are none.
#[inline]
pub fn number(value: &str) -> Option<f64> {
    const POWERS: [f64; 16] =
        [1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15];
    let unsigned = value.strip_prefix(['-', '+']).unwrap_or(value).as_bytes();
    if unsigned.is_empty() || unsigned.len() >= POWERS.len() {
        return slow_number(value);
    }
    let (mut mantissa, mut decimals, mut point) = (0u64, 0, false);
    for byte in unsigned {
        let digit = byte.wrapping_sub(b'0');
        if digit <= 9 {
            mantissa = mantissa * 10 + u64::from(digit);
            decimals += usize::from(point);
        } else if *byte == b'.' && !point && unsigned.len() > 1 {
            point = true;
        } else {
            return slow_number(value);
        }
    }
    // Both are exact, and so their quotient is the nearest number, as `parse` gives it.
    let magnitude = if decimals == 0 { mantissa as f64 } else { mantissa as f64 / POWERS[decimals] };
    Some(if value.starts_with('-') { -magnitude } else { magnitude })
}

/// Numbers with an exponent or with more digits than are exact in a `u64` and a power of ten.
#[cold]
fn slow_number(value: &str) -> Option<f64> {
    if is_number(value) { value.parse().ok() } else { None }
}

/// Whether `value` is digits with an optional sign, point and exponent.
fn is_number(value: &str) -> bool {
    let (mut digits, mut point) = (0, false);
    let mut bytes = value.strip_prefix(['-', '+']).unwrap_or(value).as_bytes().iter();
    while let Some(byte) = bytes.next() {
        match *byte {
            b'0'..=b'9' => digits += 1,
            b'.' if !point => point = true,
            b'e' | b'E' => {
                let exponent = bytes.as_slice();
                let exponent =
                    exponent.strip_prefix(b"-").or(exponent.strip_prefix(b"+")).unwrap_or(exponent);
                return digits > 0 && !exponent.is_empty() && exponent.iter().all(u8::is_ascii_digit);
            }
            _ => return false,
        }
    }
    digits > 0
}

/// `new` as text, written as the number `old` is: with its sign, its leading zeros, its point, its exponent. It gets as many
/// digits behind the point as it needs; at least one if `old` has some, and at least as many as `old` if they are `fixed`. If
/// `old` is no number, `new` is written plainly.
pub fn written_like(old: &str, new: f64, fixed: bool) -> String {
    let (mantissa, exponent) = match old.find(['e', 'E']) {
        Some(at) if number(old).is_some() => (&old[..at], Some(&old[at..])),
        _ => (old, None),
    };
    if number(old).is_none() {
        return shown_number(new, 12);
    }
    let kept = |decimals: &str| if fixed { decimals.len() } else { decimals.len().min(1) };
    if let Some(exponent) = exponent {
        let decimals = mantissa.split_once('.').map_or(0, |(_, decimals)| kept(decimals));
        let exact = format!("{:e}", rounded(new, 12));
        let (digits, power) = exact.split_once('e').unwrap_or((&exact, "0"));
        let needed = digits.split_once('.').map_or(0, |(_, decimals)| decimals.len());
        let digits = format!("{:.*}", decimals.max(needed), digits.parse::<f64>().unwrap_or(new));
        let (minus, power) = power.strip_prefix('-').map_or(("", power), |power| ("-", power));
        let sign = if minus.is_empty() && exponent[1..].starts_with('+') { "+" } else { minus };
        let width = exponent[1..].trim_start_matches(['-', '+']).len();
        return format!("{digits}{}{sign}{power:0>width$}", &exponent[..1]);
    }
    let unsigned = old.trim_start_matches(['-', '+']);
    let (whole, decimals) = unsigned.split_once('.').map_or((unsigned, None), |(a, b)| (a, Some(b)));
    let shown = shown_number(new.abs(), 12);
    let (new_whole, new_decimals) = shown.split_once('.').unwrap_or((&shown, ""));
    if shown.contains(['e', 'E']) {
        return shown_number(new, 12);
    }
    let mut out = String::new();
    if new < 0.0 {
        out.push('-');
    } else if old.starts_with('+') {
        out.push('+');
    }
    let width = if whole.starts_with('0') { whole.len() } else { 1 };
    if !(whole.is_empty() && new_whole == "0") {
        out.push_str(&format!("{new_whole:0>width$}"));
    }
    let count = decimals.map_or(0, kept).max(new_decimals.len());
    if count > 0 || decimals.is_some() {
        out.push('.');
        out.push_str(&format!("{new_decimals:0<count$}"));
    }
    out
}

/// `number` without what is only noise behind its first `digits` significant digits.
fn rounded(number: f64, digits: usize) -> f64 {
    format!("{number:.*e}", digits.max(1) - 1).parse().unwrap_or(number)
}

/// A number to `digits` significant digits, so without what is only noise in its last ones: to twelve,
/// 0.30000000000000004 is 0.3. Whole numbers are given in full.
pub fn shown_number(number: f64, digits: usize) -> String {
    if number == 0.0 {
        return "0".to_owned();
    }
    if number == number.trunc() && number.abs() < 9e15 {
        return format!("{number:.0}");
    }
    rounded(number, digits).to_string()
}

#[cfg(test)]
mod tests {
    use super::{number, written_like};
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("6", 7.0, "7")]
    #[case("6.0", 7.0, "7.0")]
    #[case("6.00", 2.5, "2.5")]
    #[case("6.25", 3.0, "3.0")]
    #[case("6.0", 2.125, "2.125")]
    #[case("6", 2.5, "2.5")]
    #[case(".5", 0.25, ".25")]
    #[case(".5", 1.5, "1.5")]
    #[case("-.5", 0.5, ".5")]
    #[case("007", 12.0, "012")]
    #[case("007", 1234.0, "1234")]
    #[case("+3", 4.0, "+4")]
    #[case("+3", -4.0, "-4")]
    #[case("3.", 4.0, "4.")]
    #[case("1.5e3", 3000.0, "3.0e3")]
    #[case("1E+03", 25000.0, "2.5E+04")]
    #[case("0.1", 0.1 + 0.2, "0.3")]
    #[case("-", 2.0, "2")]
    #[case("0", -0.0, "0")]
    fn numbers_keep_their_way_of_writing(#[case] old: &str, #[case] new: f64, #[case] expected: &str) {
        assert_eq!(written_like(old, new, false), expected);
    }

    #[rstest]
    #[case("6.00", 2.5, "2.50")]
    #[case("0.33", 2.0, "2.00")]
    #[case("6.0", 2.125, "2.125")]
    fn the_number_of_decimals_may_be_fixed(#[case] old: &str, #[case] new: f64, #[case] expected: &str) {
        assert_eq!(written_like(old, new, true), expected);
    }

    proptest! {
        #[test]
        fn numbers_are_those_of_the_library(text in "[-+]?[0-9]{0,18}[.]?[0-9]{0,6}(e[0-9])?") {
            let expected = text.bytes().any(|byte| byte.is_ascii_digit()).then(|| text.parse::<f64>().ok()).flatten();
            prop_assert_eq!(number(&text), expected);
        }
    }
}
