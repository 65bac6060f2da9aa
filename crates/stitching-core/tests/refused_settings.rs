//! Settings of a schema that cannot work: each is refused, with its place and what to write.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use stitching_core::schema;

/// What is wrong with a schema, as `LINE:COLUMN MESSAGE | HELP`.
fn wrong(text: &str) -> Vec<String> {
    let languages = ["en".to_owned(), "de".to_owned()];
    let (_, problems) = schema::read(&[("s.toml".to_owned(), text.to_owned())], &languages);
    let lines = support::lines(&problems).into_iter();
    lines.map(|line| line.replace("error[bad-schema] s.toml:", "")).collect()
}

/// A table `t` of rows with the settings `more`, beside a table `goods` with the key `Good`, a table `berths` with a key
/// of two parts, and one, `loads`, without a key.
fn of_table(more: &str) -> Vec<String> {
    wrong(&format!(
        "{more}\n\
         [table.goods]\nfiles = \"goods.txt\"\nformat = \"delimited\"\nkey = \"Good\"\nfields.Code = {{ unique = true }}\n\
         [table.berths]\nfiles = \"berths.txt\"\nformat = \"delimited\"\nkey = [\"Reach\", \"Number\"]\n\
         [table.loads]\nfiles = \"loads.txt\"\nformat = \"delimited\"\n"
    ))
}

const HEAD: &str = "[table.t]\nfiles = \"t.txt\"\nformat = \"delimited\"\n";

/// The setting stands in line 4.
#[rstest]
#[case::key_empty("key = []", "4:7 `key` names nothing | leave it out if nothing refers to the records")]
#[case::key_with_text(
    "key = \"a_{stem}\"",
    "4:7 the key `a_{stem}` has other text than names in braces with `/` between them | write \"{stem}\""
)]
#[case::first_without_position(
    "key = \"A\"\nfirst = 0",
    "5:9 `first` means nothing without `{position}` in the key | write key = \"{position}\", or remove `first`"
)]
#[case::first_too_high(
    "key = \"{position}\"\nfirst = 2",
    "5:9 `first` must be 1 or 0, and is a whole number"
)]
#[case::first_no_number("key = \"{position}\"\nfirst = \"one\"", "5:9 `first` must be 1 or 0, and is text")]
#[case::merged_by_position(
    "key = \"{position}\"\nlayering = \"merge\"",
    "5:12 records that are told apart by their position cannot count together over all layers | give the table another key, or leave `layering` out"
)]
#[case::list_in_a_path(
    "key = \"A\"\nfields.\"{stem}\" = { list = \",\" }",
    "5:28 `list` means nothing for `{stem}`, which stands in the path of the file | it may have `ref`, `with`, `as`, `type`, `range`, `choice`, `pattern`, `owner`, `text` and `file`"
)]
#[case::key_of_a_path_and_a_field(
    "key = \"A\"\nfields.\"{stem}\" = { ref = \"berths\", with = [\"Reach\", \"{}\"] }",
    "5:45 `{stem}` stands in the path of the file, and `Reach` in each of its records: they do not go together | name parts of the path only"
)]
#[case::key_of_a_path_and_a_position(
    "key = \"A\"\nfields.\"{stem}\" = { ref = \"berths\", with = [\"{position}\", \"{}\"] }",
    "5:45 `{stem}` stands in the path of the file, and `{position}` in each of its records: they do not go together | name parts of the path only"
)]
#[case::file_of_a_path_and_a_field(
    "key = \"A\"\nfields.\"{stem}\" = { file = \"{A}/{}.txt\" }",
    "5:28 `{stem}` stands in the path of the file, and `A` in each of its records: they do not go together | name parts of the path only"
)]
#[case::column_of_a_path(
    "key = \"A\"\nfields.\"{path}\" = { at = \"B\" }",
    "5:26 `at` means nothing for `{path}`, which stands in the path of the file | it may have `ref`, `with`, `as`, `type`, `range`, `choice`, `pattern`, `owner`, `text` and `file`"
)]
#[case::condition_in_a_path(
    "key = \"A\"\nfields.\"{file}\" = { also = [{ ref = \"goods\", when = { A = \"x\" } }] }",
    "5:53 `when` means nothing for `{file}`, which stands in the path of the file | it may have `ref`, `with`, `as`, `type`, `range`, `choice`, `pattern`, `owner`, `text` and `file`"
)]
#[case::merged_without_key(
    "layering = \"merge\"",
    "4:12 the table `t` has `layering` and no `key` | say what names a record: key = \"FIELD\""
)]
#[case::texts_without_key(
    "texts = true",
    "4:9 the table `t` has `texts` and no `key` | say what names a record: key = \"FIELD\""
)]
#[case::layering_unknown(
    "key = \"A\"\nlayering = \"both\"",
    "5:12 `layering` cannot be \"both\" | it is \"replace\" or \"merge\""
)]
#[case::replaces_without_layering(
    "key = \"A\"\nreplaces = \"^; all$\"",
    "5:12 `replaces` means nothing without `layering` | write layering = \"merge\"; otherwise a file replaces those below anyway"
)]
#[case::replaces_no_expression(
    "key = \"A\"\nlayering = \"merge\"\nreplaces = \"(\"",
    "6:12 `(` is not a regular expression | a line that is just a mark is \"^; replace$\""
)]
#[case::adds_without_layering(
    "key = \"A\"\nadds = \"^; all$\"",
    "5:8 `adds` means nothing without `layering` | write layering = \"merge\"; otherwise no file counts together with those below"
)]
#[case::adds_where_all_replace(
    "key = \"A\"\nlayering = \"replace\"\nadds = \"^a$\"",
    "6:8 `adds` means nothing where layering is \"replace\" | remove one of them"
)]
#[case::adds_beside_replaces(
    "key = \"A\"\nlayering = \"merge\"\nreplaces = \"^r$\"\nadds = \"^a$\"",
    "7:8 `adds` and `replaces` both tell which files count together with those below | remove one of them"
)]
#[case::replaces_where_all_replace(
    "key = \"A\"\nlayering = \"replace\"\nreplaces = \"^a$\"",
    "6:12 `replaces` means nothing where layering is \"replace\" | remove one of them"
)]
#[case::encoding_unknown(
    "key = \"A\"\nencoding = \"utf-99\"",
    "5:12 there is no encoding `utf-99` | names are those of the Encoding Standard: utf-8, utf-16le, windows-1250, windows-1252, iso-8859-2, shift_jis"
)]
#[case::mark_unknown(
    "key = \"A\"\nbyte_order_mark = \"perhaps\"",
    "5:19 `byte_order_mark` cannot be \"perhaps\" | it is \"required\" or \"forbidden\""
)]
#[case::ignore_case_no_truth(
    "key = \"A\"\nignore_case = \"yes\"",
    "5:15 `ignore_case` must be true or false, and is text"
)]
#[case::label_no_text("key = \"A\"\nlabel = 3", "5:9 `label` must be text in quotes, and is a whole number")]
#[case::language_without_texts(
    "key = \"A\"\nlanguage = \"L\"",
    "5:12 `language` means nothing without `texts` | `texts` names the field that holds the text"
)]
#[case::languages_unknown(
    "key = \"A\"\ntexts = \"T\"\nlanguage = \"L\"\nlanguages = { french = \"fr\" }",
    "7:24 the project has no such language | the project's languages are `en`, `de`"
)]
#[case::texts_unknown_language(
    "key = \"A\"\ntexts = { fr = \"F\" }",
    "5:9 the project has no language `fr` | the project's languages are `en`, `de`"
)]
#[case::at_a_field(
    "key = \"A\"\nfields.B = {}\nfields.C = { at = \"B\" }",
    "6:19 `C` and `B` stand for the same column | describe it once; several rules for one value go into `also`"
)]
#[case::at_of_a_family(
    "key = \"A\"\nfields.\"B{1..3}\" = { at = \"b{1..2}\" }",
    "5:27 `at` gives 2 of the 3 columns | write a range as in the name: at = \"gate{1..4}/@ref\""
)]
#[case::about_no_text("key = \"A\"\nabout = []", "5:9 `about` must be text in quotes, and is a list")]
#[case::unknown_setting(
    "key = \"A\"\nkeys = \"B\"",
    "5:1 there is no setting `keys` here | did you mean `key`?"
)]
fn of_a_table(#[case] setting: &str, #[case] expected: &str) {
    assert_eq!(of_table(&format!("{HEAD}{setting}")), [expected]);
}

/// The setting stands in the field `A` of line 5, behind 15 characters.
#[rstest]
#[case::type_unknown(
    "type = \"date\"",
    "5:21 there is no type `date` | it is one of text, integer, number, boolean"
)]
#[case::type_near("type = \"intger\"", "5:21 there is no type `intger` | did you mean `integer`?")]
#[case::range_of_text(
    "type = \"text\", range = [0, 1]",
    "5:37 `range` is for numbers, and `type` is \"text\" | write type = \"number\", or remove one of them"
)]
#[case::range_backwards(
    "range = [3, 1]",
    "5:22 `range` must be the lowest and the highest number, as [0, 63], and is a list"
)]
#[case::range_of_one(
    "range = [3]",
    "5:22 `range` must be the lowest and the highest number, as [0, 63], and is a list"
)]
#[case::flags_of_zero(
    "flags = [1, 0]",
    "5:22 `flags` must be whole numbers from 1 to 2^53, as [1, 2, 4], and is a list"
)]
#[case::flags_of_words(
    "flags = [\"a\"]",
    "5:22 `flags` must be whole numbers from 1 to 2^53, as [1, 2, 4], and is a list"
)]
#[case::flags_below_zero(
    "flags = [-1]",
    "5:22 `flags` must be whole numbers from 1 to 2^53, as [1, 2, 4], and is a list"
)]
#[case::flags_that_no_number_holds(
    "flags = [9007199254740993]",
    "5:22 `flags` must be whole numbers from 1 to 2^53, as [1, 2, 4], and is a list"
)]
#[case::no_flags(
    "flags = []",
    "5:22 `flags` must be whole numbers from 1 to 2^53, as [1, 2, 4], and is a list"
)]
#[case::flags_of_number(
    "type = \"number\", flags = [1]",
    "5:39 `flags` are in whole numbers, and `type` is \"number\" | write type = \"integer\", or remove one of them"
)]
#[case::range_of_words(
    "range = [\"a\", \"b\"]",
    "5:22 `range` must be the lowest and the highest number, as [0, 63], and is a list"
)]
#[case::pattern_broken(
    "pattern = \"(a\"",
    "5:24 `(a` is not a regular expression | a plain identifier is \"[a-z][a-z0-9_]*\""
)]
#[case::pattern_too_large(
    "pattern = \"(a{1000}){1000}\"",
    "5:24 `(a{1000}){1000}` takes more than the 10 MB that an expression may | a plain identifier is \"[a-z][a-z0-9_]*\""
)]
#[case::ref_unknown("ref = \"godos\"", "5:20 there is no table `godos` to refer to | did you mean `goods`?")]
#[case::ref_to_keyless(
    "ref = \"loads\"",
    "5:20 the table `loads` has no `key`, and nothing can refer to its records | give it one, or refer to one of its fields: \"loads.FIELD\""
)]
#[case::ref_to_two_parts(
    "ref = \"berths\"",
    "5:20 the key of `berths` has 2 parts, and one value cannot name it | write with = [...] with the fields that make up the key, or with `parts` of one value that does, and \"{}\" for this one; or refer to one of its fields: \"berths.FIELD\""
)]
#[case::ref_unknown_field(
    "ref = \"goods.Nmae\"",
    "5:20 there is no table `goods.Nmae` to refer to | the table `goods` is there, but the field must be described under it first"
)]
#[case::ref_no_text(
    "ref = 3",
    "5:20 there is no table `3` to refer to | the tables are `t`, `goods`, `berths`, `loads`"
)]
#[case::with_without_ref(
    "with = [\"A\", \"{}\"]",
    "5:21 `with` means nothing without `ref` | `ref` says whose key these are the parts of"
)]
#[case::with_without_value(
    "ref = \"berths\", with = [\"A\", \"B\"]",
    "5:37 `with` must have one \"{}\", which stands for the value | for example with = [\"Reach\", \"{}\"]"
)]
#[case::with_two_values(
    "ref = \"berths\", with = [\"{}\", \"{}\"]",
    "5:37 `with` must have one \"{}\", which stands for the value | for example with = [\"Reach\", \"{}\"]"
)]
#[case::with_too_many(
    "ref = \"berths\", with = [\"A\", \"B\", \"{}\"]",
    "5:20 the key of `berths` has 2 parts, and `with` names 3 | write with = [...] with the fields that make up the key, or with `parts` of one value that does, and \"{}\" for this one; or refer to one of its fields: \"berths.FIELD\""
)]
#[case::as_without_ref(
    "as = \"_{}\"",
    "5:19 `as` means nothing without `ref` | `ref` says whose key is made from the value"
)]
#[case::as_two_parts(
    "ref = \"goods\", as = \"{a}_{b}\"",
    "5:34 `{a}_{b}` must have one `{}`, where the value goes"
)]
#[case::by_without_tables(
    "ref = \"goods\", by = \"K\"",
    "5:34 `by` chooses between tables, and `ref` does not give a table for each value | write ref = { crew = \"crews\", barge = \"barges\" }"
)]
#[case::tables_without_by(
    "ref = { a = \"goods\" }",
    "5:20 `ref` gives a table for each value of another field, and `by` does not name it | write by = \"FIELD\""
)]
#[case::table_in_by_unknown(
    "ref = { a = \"godos\" }, by = \"K\"",
    "5:26 there is no table `godos` to refer to | did you mean `goods`?"
)]
#[case::table_in_by_no_text(
    "ref = { a = 3 }, by = \"K\"",
    "5:26 there is no table `3` to refer to | the tables are `t`, `goods`, `berths`, `loads`"
)]
#[case::text_two_parts("text = \"{a}_{b}\"", "5:21 `{a}_{b}` must have one `{}`, where the value goes")]
#[case::text_number(
    "text = 3",
    "5:21 `text` must be true, or a template such as \"name_{}\", and is a whole number"
)]
#[case::file_without_value(
    "file = \"art/x.png\"",
    "5:21 `art/x.png` must have one `{}`, where the value goes | the parts with names are fields, or `{folder}`, `{stem}` and parts of the path of the record's file"
)]
#[case::file_out(
    "file = \"../{}\"",
    "5:21 `../x` would lead out of the layer | paths begin at a layer's root: \"art/{}.png\""
)]
#[case::follows_without_key(
    "follows = \"{name}\"",
    "5:24 `follows` must have the one part `{key}` | for example follows = \"{key}_name\""
)]
#[case::follows_no_text("follows = true", "5:24 `follows` must be text in quotes, and is true or false")]
#[case::counted_without_list(
    "counted = true",
    "5:24 `counted` means nothing without `list` | `list` says what separates the items"
)]
#[case::inherit_without_ref(
    "inherit = true",
    "5:24 `inherit` means nothing without `ref` | `ref` says in which table the record is that it names"
)]
#[case::unique_no_truth("unique = 1", "5:23 `unique` must be true or false, and is a whole number")]
#[case::required_no_truth("required = \"always\"", "5:25 `required` must be true or false, and is text")]
#[case::list_no_text(
    "list = 3",
    "5:21 `list` must be text in quotes, or several such texts, and is a whole number"
)]
#[case::at_no_text(
    "at = 3",
    "5:19 `at` must be text in quotes, or several such texts, and is a whole number"
)]
#[case::at_of_numbers(
    "at = [\"a\", 3]",
    "5:19 `at` must be text in quotes, or several such texts, and is a list"
)]
#[case::at_the_same_twice(
    "at = [\"a\", \"a\"]",
    "5:25 `A` and `A` stand for the same column | describe it once; several rules for one value go into `also`"
)]
#[case::list_of_numbers(
    "list = [\";\", 3]",
    "5:21 `list` must be text in quotes, or several such texts, and is a list"
)]
#[case::list_of_nothing(
    "list = []",
    "5:21 `list` must say what separates the items | for example list = \";\""
)]
#[case::list_with_nothing(
    "list = [\";\", \"\"]",
    "5:27 `list` must say what separates the items | for example list = \";\""
)]
#[case::quoted_without_list(
    "quoted = true",
    "5:23 `quoted` means nothing without `list` | `list` says what separates the items"
)]
#[case::quotes_as_separator(
    "list = '\"', quoted = true",
    "5:21 a quote cannot separate items that stand in quotes | write another separator, or leave `quoted` out"
)]
#[case::none_pattern_broken(
    "none_pattern = \"(\"",
    "5:29 `(` is not a regular expression | a plain identifier is \"[a-z][a-z0-9_]*\""
)]
#[case::ignore_case_without_ref(
    "ignore_case = true",
    "5:28 `ignore_case` means nothing without `ref` | `ref` says which keys are compared"
)]
#[case::ignore_case_of_a_field(
    "ref = \"goods.Code\", ignore_case = true",
    "5:20 `ignore_case` is for keys, and `goods.Code` is a field | leave it out, or refer to a table by its key"
)]
#[case::also_no_table(
    "also = \"goods\"",
    "5:21 `also` must be a table such as { ref = \"guilds\" }, or several, and is text"
)]
#[case::also_in_also(
    "also = { ref = \"goods\", also = { ref = \"goods\" } }",
    "5:45 a rule in `also` has none of its own | put it into the list: also = [{ ref = \"a\" }, { ref = \"b\" }]"
)]
#[case::also_with_a_setting_of_fields(
    "also = { list = \";\" }",
    "5:23 there is no setting `list` here | known here: type, ref, by, as, with, when, none, none_pattern, also, ignore_case, text, file, range, flags, choice, pattern, longest, unique, required, owner, on_remove"
)]
#[case::also_beside_parts(
    "parts = \"{a},{b}\", also = { ref = \"goods\" }",
    "5:40 `also` says nothing of a value that `parts` takes apart | give it to one of the parts: PART = { also = ... }"
)]
#[case::parts_side_by_side(
    "parts = \"{a}{b}\"",
    "5:22 in the template `{a}{b}`, character 4: two parts with nothing between them cannot be told apart"
)]
#[case::parts_unclosed(
    "parts = \"{a\"",
    "5:22 in the template `{a`, character 1: `{` has no `}`; write `{{` for a brace that is meant as such"
)]
#[case::parts_and_find(
    "parts = \"{a},{b}\", find = \"(?<c>x)\"",
    "5:40 `find` and `parts` both take the value apart | remove one of them"
)]
#[case::rule_beside_parts(
    "parts = \"{a},{b}\", type = \"integer\"",
    "5:40 `type` says nothing of a value that `parts` takes apart | give it to one of the parts: PART = { type = ... }"
)]
#[case::find_without_groups(
    "find = \"a+\"",
    "5:21 the expression has no named group | name what it finds: 'open (?<lock>\\w+)'"
)]
#[case::find_broken(
    "find = \"(?<a\"",
    "5:21 `(?<a` is not a regular expression | error: unclosed capture group name"
)]
#[case::part_unknown(
    "parts = \"{a},{b}\", c = { type = \"integer\" }",
    "5:33 there is no setting `c` here | known here: at, about, unit, list, quoted, counted, find, parts, follows, inherit, note, optional, type, ref, by, as, with, when, none, none_pattern, also, ignore_case, text, file, range, flags, choice, pattern, longest, unique, required, owner, on_remove"
)]
#[case::part_no_table("parts = \"{a},{b}\", a = 3", "5:37 `a` must be a table, and is a whole number")]
#[case::when_no_table(
    "when = 3",
    "5:21 `when` must be a table such as { Kind = \"gate\" }, or a condition, and is a whole number"
)]
#[case::when_no_condition(
    "when = \"Kind ==\"",
    "5:21 `Kind ==` does not work: at character 8: it ends too early | write a condition such as \"Kind == 'gate' && Depth > 5\""
)]
#[case::when_of_everything(
    "when = \"row.size() > 1\"",
    "5:21 `row` without a field means nothing here | name the fields: row[\"a name\"]"
)]
#[case::when_and_by(
    "ref = { a = \"goods\" }, by = \"B\", when = { C = \"x\" }",
    "5:54 `when` and `by` cannot both say which rule holds | put one of them into `also`"
)]
#[case::note_no_truth("note = \"yes\"", "5:21 `note` must be true or false, and is text")]
#[case::optional_no_truth("optional = 2", "5:25 `optional` must be true or false, and is a whole number")]
#[case::unknown_setting("typ = \"integer\"", "5:14 there is no setting `typ` here | did you mean `type`?")]
fn of_a_field(#[case] settings: &str, #[case] expected: &str) {
    let found = of_table(&format!("{HEAD}key = \"K\"\nfields.A = {{ {settings} }}"));
    assert_eq!(found, [expected]);
}

#[rstest]
#[case::owner_of_nothing(
    "fields.A = { owner = true }",
    "5:22 `owner` means nothing without `ref` | `ref` says to what the record belongs"
)]
#[case::removal_of_nothing(
    "fields.A = { on_remove = \"item\" }",
    "5:26 `on_remove` means nothing without `ref` | `ref` says whose removal is meant"
)]
#[case::removal_unknown(
    "fields.A = { ref = \"goods\", on_remove = \"recrod\" }",
    "5:41 `on_remove` cannot be \"recrod\" | did you mean `record`?"
)]
#[case::companion_of_no_table(
    "[[companion]]\ntext = \"{key}_x\"",
    "5:1 the companion names no `table` | write table = \"NAME\", with the table whose records it goes with"
)]
#[case::companion_of_unknown_table(
    "[[companion]]\ntable = \"good\"\ntext = \"{key}_x\"",
    "6:9 there is no table `good` | did you mean `goods`?"
)]
#[case::companion_of_nameless_records(
    "[[companion]]\ntable = \"loads\"\ntext = \"{key}_x\"",
    "6:9 the table `loads` has no `key`, so nothing can be named after its records | say what names a record: key = \"FIELD\""
)]
#[case::companion_that_is_nothing(
    "[[companion]]\ntable = \"goods\"",
    "5:1 the companion is no `text`, `file` or `folder` | for example file = \"layouts/{key}.json\""
)]
#[case::companion_of_another_field(
    "[[companion]]\ntable = \"berths\"\nfile = \"a/{Reech}.txt\"",
    "7:8 `{Reech}` is no part of the key of `berths` | did you mean `{Reach}`?"
)]
#[case::companion_of_all(
    "[[companion]]\ntable = \"goods\"\nfile = \"a/b.txt\"",
    "7:8 `a/b.txt` is the same for all records | put {key} where the key of the record goes"
)]
#[case::companion_outside(
    "[[companion]]\ntable = \"goods\"\nfolder = \"../{key}/\"",
    "7:10 `../{key}/` leads to no place inside a layer | paths begin at a layer's root: \"sites/{key}/\""
)]
#[case::companion_misspelt(
    "[[companion]]\ntable = \"goods\"\nflie = \"a/{key}\"\ntext = \"{key}\"",
    "7:1 there is no setting `flie` here | did you mean `file`?"
)]
fn what_belongs_to_a_record(#[case] settings: &str, #[case] expected: &str) {
    let found = of_table(&format!("{HEAD}key = \"K\"\n{settings}"));
    assert_eq!(found, [expected]);
}

/// What is wrong with the settings of a format of sections.
#[rstest]
#[case::rows_without_rows(
    "records = \"sections\", of = \"needs\"",
    "3:53 `of` says something of rows, and the records are none | write `records = \"rows\"` if they are"
)]
#[case::cells_of_keys(
    "records = \"keys\", delimiter = \",\"",
    "3:56 `delimiter` says something of rows, and the records are none | write `records = \"rows\"` if they are"
)]
#[case::long_delimiter(
    "records = \"rows\", delimiter = \"::\"",
    "3:56 `delimiter` must be one character, `tab` or `blanks` | `blanks` stands for any number of blanks and tabs"
)]
#[case::no_columns(
    "records = \"rows\", header = false",
    "3:53 without a header the columns have no names | name them: columns = [\"First\", \"Second\"]"
)]
#[case::goes_on_twice(
    "goes_on = [\"comma\", \"indent\"]",
    "3:46 a value goes on in one way, or in brackets, and here are more | remove one of them"
)]
#[case::goes_on_unknown(
    "goes_on = [\"brackets\", \"lines\"]",
    "3:49 `goes_on` cannot be \"lines\" | it is one of \"never\", \"backslash\", \"comma\", \"indent\", \"brackets\""
)]
fn of_sections(#[case] settings: &str, #[case] message: &str) {
    let text = format!("[table.t]\nfiles = \"t.ini\"\nformat = {{ kind = \"ini\", {settings} }}\n");
    assert_eq!(wrong(&text), [message]);
}

#[rstest]
#[case::or_of_several_lines(
    "line = [\"a {x}\", \"b {y}\"], or = \"c {x}\"",
    "3:10 `or` is for records of one line each | leave `anywhere` and `over_lines` out, and give `line` one template"
)]
#[case::or_anywhere(
    "line = \"a {x}\", or = \"c {x}\", anywhere = true",
    "3:10 `or` is for records of one line each | leave `anywhere` and `over_lines` out, and give `line` one template"
)]
#[case::or_that_holds_nothing(
    "line = \"a {x}\", or = \"end\"",
    "3:10 `end` has no parts, and so its records hold nothing | pass over such lines with `others`"
)]
#[case::or_that_may_be_missing(
    "line = \"a {x}\", or = \"[b {x}]\"",
    "3:10 all of the template `[b {x}]` may be missing | something in it must always be there"
)]
#[case::or_of_what_is_carried(
    "line = \"a {x}\", or = \"c {y}\", carry = \"of {y}\"",
    "3:10 the part `{y}` stands in two templates of the format | give each part its own name"
)]
fn of_lines(#[case] settings: &str, #[case] message: &str) {
    let text = format!("[table.t]\nfiles = \"t.txt\"\nformat = {{ kind = \"lines\", {settings} }}\n");
    assert_eq!(wrong(&text), [message]);
}

/// A field that rows cannot have.
#[rstest]
#[case::part_of_nothing("{name}", "the rows of an INI file have no column `{name}`")]
#[case::not_named("b", "`columns` has no `b`")]
fn fields_of_rows(#[case] field: &str, #[case] message: &str) {
    let text = format!(
        "[table.t]\nfiles = \"t.ini\"\nformat = {{ kind = \"ini\", records = \"rows\", header = false, columns = [\"a\"] }}\nfields.\"{field}\" = {{ unique = true }}\n"
    );
    let found = wrong(&text);
    assert!(found.iter().any(|line| line.contains(message)), "{found:?}");
}
