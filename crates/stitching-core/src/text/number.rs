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

#[cfg(test)]
mod tests {
    use super::number;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn numbers_are_those_of_the_library(text in "[-+]?[0-9]{0,18}[.]?[0-9]{0,6}(e[0-9])?") {
            let expected = text.bytes().any(|byte| byte.is_ascii_digit()).then(|| text.parse::<f64>().ok()).flatten();
            prop_assert_eq!(number(&text), expected);
        }
    }
}
