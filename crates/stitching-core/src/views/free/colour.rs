//! Free colours: those that the eye tells from all that are taken.

use super::FreeRequest;
use crate::Error;
use palette::color_difference::Ciede2000;
use palette::{FromColor, Lab, Srgb};
use std::collections::BTreeSet;

/// How a colour is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Form {
    /// Two hexadecimal digits a part, behind `#`, `0x` or nothing; capitals or not.
    Hex { mark: &'static str, upper: bool },
    /// Three numbers to 255 with this between them.
    Numbers { between: &'static str },
}

impl Form {
    const HEX: [&str; 3] = ["#", "0x", ""];
    const BETWEEN: [&str; 6] = [", ", "; ", ",", ";", " ", "/"];

    /// The form in which all values are colours; digits alone are rather numbers.
    pub(super) fn of_all(values: &BTreeSet<&str>) -> Option<Form> {
        let first = values.iter().find_map(|value| Form::of(value))?;
        let letters = |value: &&str| value.bytes().any(|byte| byte.is_ascii_alphabetic());
        let bare = matches!(first, Form::Hex { mark: "", .. });
        let all = values.iter().all(|value| first.read(value).is_some());
        // Two colours are as likely three numbers that mean something else.
        (all && (!bare || values.iter().any(letters))).then_some(first)
    }

    fn of(value: &str) -> Option<Form> {
        let upper = value.bytes().any(|byte| matches!(byte, b'A'..=b'F'));
        let hex = Form::HEX.iter().map(|mark| Form::Hex { mark, upper });
        let numbers = Form::BETWEEN.iter().map(|between| Form::Numbers { between });
        hex.chain(numbers).find(|form| form.read(value).is_some())
    }

    fn read(self, value: &str) -> Option<Srgb<u8>> {
        let parts: Vec<u8> = match self {
            Form::Hex { mark, .. } => {
                let digits = value.strip_prefix(mark)?;
                if digits.len() != 6 || !digits.bytes().all(|byte| byte.is_ascii_hexdigit()) {
                    return None;
                }
                let part = |at: usize| u8::from_str_radix(&digits[at..at + 2], 16).ok();
                [0, 2, 4].into_iter().map(part).collect::<Option<_>>()?
            }
            Form::Numbers { between } => {
                value.split(between).map(|part| part.trim().parse().ok()).collect::<Option<_>>()?
            }
        };
        let [red, green, blue] = parts[..] else { return None };
        Some(Srgb::new(red, green, blue))
    }

    fn write(self, colour: Srgb<u8>) -> String {
        let parts = [colour.red, colour.green, colour.blue];
        match self {
            Form::Hex { mark, upper } => {
                let digits: String = parts
                    .iter()
                    .map(|part| if upper { format!("{part:02X}") } else { format!("{part:02x}") })
                    .collect();
                format!("{mark}{digits}")
            }
            Form::Numbers { between } => parts.map(|part| part.to_string()).join(between),
        }
    }
}

/// Colours that the eye tells from all that are taken, by CIEDE2000 (CIE 142-2001), are at least this far away.
const APART: f32 = 12.0;

/// Where all colours like a given one are taken, smaller distances will do, down to one that can just be seen.
const LESS_APART: [f32; 4] = [8.0, 5.0, 3.0, 2.0];

/// A colour this far from the one it is to be near to is another colour.
const NEAR: f32 = 25.0;

/// A colour that could be given, and how far it is from the nearest one taken.
#[derive(Debug, Clone, Copy)]
struct Candidate {
    colour: Srgb<u8>,
    lab: Lab,
    apart: f32,
}

/// The colours that are taken.
pub(super) struct Colours<'c> {
    form: Form,
    used: Vec<(&'c str, Lab)>,
}

impl<'c> Colours<'c> {
    /// Those among the values `taken`.
    pub fn of(taken: &BTreeSet<&'c str>) -> Colours<'c> {
        let hex = Form::Hex { mark: "#", upper: false };
        let form = taken.iter().find_map(|value| Form::of(value)).unwrap_or(hex);
        let used = taken.iter().filter_map(|value| Some((*value, lab(form.read(value)?)))).collect();
        Colours { form, used }
    }

    /// The colour that is meant by `text`, in whatever form.
    fn read(&self, text: &str, name: &str) -> Result<Srgb<u8>, Error> {
        Form::of(text).and_then(|form| form.read(text)).ok_or_else(|| Error::Usage {
            message: format!("`{text}` is not a colour"),
            help: format!("{name} holds colours such as `{}`", self.form.write(Srgb::new(64, 128, 192)))
                .into(),
        })
    }

    /// The one that is closest to `text`, and how far it is.
    ///
    /// # Errors
    /// When `text` is no colour.
    pub fn closest(&self, text: &str, name: &str) -> Result<Option<(&'c str, f32)>, Error> {
        let own = lab(self.read(text, name)?);
        let others = self.used.iter().map(|(value, other)| (*value, own.difference(*other)));
        Ok(others.min_by(|a, b| a.1.total_cmp(&b.1)))
    }

    /// The colours that are furthest from those taken, one after another; or those nearest to a given one that are
    /// far enough. `name` is that of the field, for messages.
    ///
    /// # Errors
    /// When what it is to be near to is no colour.
    pub fn free(&self, request: &FreeRequest, count: usize, name: &str) -> Result<Vec<String>, Error> {
        let near = request.near.as_ref().map(|near| self.read(near, name)).transpose()?;
        let mut used: Vec<Lab> = self.used.iter().map(|(_, lab)| *lab).collect();
        let mut around = near.map_or_else(Vec::new, |near| candidates(&used, colours_around(near)));
        let mut everywhere = if around.is_empty() { candidates(&used, all_colours()) } else { Vec::new() };
        let mut out = Vec::new();
        while out.len() < count {
            let mut best = near.and_then(|near| nearest(&around, lab(near)));
            if best.is_none() {
                if everywhere.is_empty() {
                    everywhere = candidates(&used, all_colours());
                }
                best = match near {
                    None => furthest(&everywhere),
                    Some(near) => nearest_apart(&everywhere, lab(near), APART),
                };
            }
            let Some(best) = best else { break };
            out.push(self.form.write(best.colour));
            used.push(best.lab);
            for other in around.iter_mut().chain(&mut everywhere) {
                other.apart = other.apart.min(best.lab.difference(other.lab));
            }
        }
        Ok(out)
    }
}

fn lab(colour: Srgb<u8>) -> Lab {
    Lab::from_color(colour.into_format::<f32>())
}

/// Colours over the whole range, evenly.
fn all_colours() -> impl Iterator<Item = Srgb<u8>> {
    const STEPS: u32 = 17;
    (0..STEPS.pow(3)).map(|at| {
        let part = |at: u32| (at % STEPS * 255 / (STEPS - 1)) as u8;
        Srgb::new(part(at / (STEPS * STEPS)), part(at / STEPS), part(at))
    })
}

/// `colour` and those around it, closer to each other than [`all_colours`].
fn colours_around(colour: Srgb<u8>) -> impl Iterator<Item = Srgb<u8>> {
    const STEPS: i32 = 8;
    const STEP: i32 = 8;
    let parts = move |part: u8| {
        (-STEPS..=STEPS).filter_map(move |step| u8::try_from(i32::from(part) + step * STEP).ok())
    };
    parts(colour.red).flat_map(move |red| {
        parts(colour.green)
            .flat_map(move |green| parts(colour.blue).map(move |blue| Srgb::new(red, green, blue)))
    })
}

fn candidates(used: &[Lab], colours: impl Iterator<Item = Srgb<u8>>) -> Vec<Candidate> {
    let candidate = |colour| {
        let own = lab(colour);
        let apart = used.iter().map(|other| own.difference(*other)).fold(f32::INFINITY, f32::min);
        Candidate { colour, lab: own, apart }
    };
    colours.map(candidate).collect()
}

fn furthest(candidates: &[Candidate]) -> Option<Candidate> {
    let apart = candidates.iter().filter(|own| own.apart >= APART);
    apart.max_by(|a, b| a.apart.min(1000.0).total_cmp(&b.apart.min(1000.0))).copied()
}

fn nearest_apart(candidates: &[Candidate], near: Lab, apart: f32) -> Option<Candidate> {
    let apart = candidates.iter().filter(|own| own.apart >= apart);
    apart.min_by(|a, b| a.lab.difference(near).total_cmp(&b.lab.difference(near))).copied()
}

/// The one nearest to `near` that is as far as can be from those taken, and still a colour like it.
fn nearest(candidates: &[Candidate], near: Lab) -> Option<Candidate> {
    let like = |own: &Candidate| own.lab.difference(near) <= NEAR;
    let mut steps = std::iter::once(APART).chain(LESS_APART);
    steps.find_map(|apart| nearest_apart(candidates, near, apart).filter(like))
}

#[cfg(test)]
mod tests {
    use super::{Colours, Form};
    use crate::views::FreeRequest;
    use palette::Srgb;
    use rstest::rstest;
    use std::collections::BTreeSet;

    #[rstest]
    #[case("#4a7b2c", (0x4a, 0x7b, 0x2c))]
    #[case("0x4A7B2C", (0x4a, 0x7b, 0x2c))]
    #[case("74, 123, 44", (74, 123, 44))]
    #[case("74 123 44", (74, 123, 44))]
    #[case("74;123;44", (74, 123, 44))]
    fn colours_are_written_as_they_are_read(#[case] text: &str, #[case] parts: (u8, u8, u8)) {
        let form = Form::of(text).expect("a colour");
        assert_eq!(form.read(text), Some(Srgb::new(parts.0, parts.1, parts.2)));
        assert_eq!(form.write(Srgb::new(parts.0, parts.1, parts.2)), text);
    }

    #[rstest]
    #[case("#12345")]
    #[case("1,2")]
    #[case("1,2,300")]
    #[case("#gg0000")]
    #[case("north")]
    fn what_is_no_colour(#[case] text: &str) {
        assert_eq!(Form::of(text), None);
    }

    /// Of many greens all are taken; what is near to one is a green all the same, that can be told from them.
    #[test]
    fn where_all_like_it_are_taken_less_distance_will_do() {
        let greens: Vec<String> = (0..168)
            .map(|at| format!("#{:02x}{:02x}{:02x}", at % 12 * 9, 120 + at % 14 * 9, at / 14 * 9))
            .collect();
        let taken: BTreeSet<&str> = greens.iter().map(String::as_str).collect();
        let colours = Colours::of(&taken);
        let request = FreeRequest { near: Some("#3caa32".to_owned()), ..FreeRequest::default() };
        let found = colours.free(&request, 3, "Colour").expect("colours");
        assert_eq!(found.len(), 3);
        for own in found {
            assert!(!taken.contains(own.as_str()));
            let Some(colour) = Form::of(&own).and_then(|form| form.read(&own)) else { panic!("{own}") };
            assert!(colour.green > colour.red && colour.green > colour.blue, "{own} is no green");
            let (_, apart) = colours.closest(&own, "Colour").expect("a colour").expect("one that is taken");
            assert!(apart >= 2.0, "{own} is {apart} from one that is taken");
        }
    }

    #[rstest]
    #[case("#000000", Some(("#000000", 0.0)))]
    #[case("0, 0, 0", Some(("#000000", 0.0)))]
    #[case("#ff0000", Some(("#fe0000", 0.3)))]
    fn the_closest_that_is_taken(#[case] text: &str, #[case] expected: Option<(&str, f32)>) {
        let taken = BTreeSet::from(["#000000", "#fe0000", "#00ff00"]);
        let found = Colours::of(&taken).closest(text, "Colour").expect("a colour");
        let (value, apart) = found.expect("one that is taken");
        let (expected, within) = expected.expect("a case");
        assert_eq!(value, expected);
        assert!(apart <= within, "{apart}");
    }
}
