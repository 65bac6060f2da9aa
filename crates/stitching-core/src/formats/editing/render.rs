//! From what is to become of the entries to edits: container by container, what goes is cut out, what comes is put in,
//! and separators are set right.

use super::entries::{Anchor, Entries, Inside, New};
use super::new_entry::NewEntry;
use super::style::{blanks_before, line_content_end, line_start, next_line};
use crate::text::{Edit, Span};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::ops::Range;

/// What is cut out of the text, and what comes in where.
#[derive(Default)]
struct Cuts {
    ranges: Vec<Range<usize>>,
    inserts: BTreeMap<usize, String>,
}

impl Cuts {
    fn cut(&mut self, range: Range<usize>) {
        if !range.is_empty() {
            self.ranges.push(range);
        }
    }

    fn insert(&mut self, at: usize, text: &str) {
        self.inserts.entry(at).or_default().push_str(text);
    }

    /// As edits; what comes in within a piece that is cut out takes its place.
    fn into_edits(mut self) -> Vec<Edit> {
        self.ranges.sort_by_key(|range| (range.start, range.end));
        let mut joined: Vec<Range<usize>> = Vec::new();
        for range in self.ranges {
            match joined.last_mut() {
                Some(last) if range.start <= last.end => last.end = last.end.max(range.end),
                _ => joined.push(range),
            }
        }
        let mut edits = Vec::new();
        for range in joined {
            let mut text = String::new();
            let within: Vec<usize> = self.inserts.range(range.start..range.end).map(|(at, _)| *at).collect();
            for at in within {
                text.push_str(&self.inserts.remove(&at).unwrap_or_default());
            }
            edits.push(Edit { span: Span::new(range.start, range.end), text });
        }
        let inserts = self.inserts.into_iter().filter(|(_, text)| !text.is_empty());
        edits.extend(inserts.map(|(at, text)| Edit { span: Span::new(at, at), text }));
        edits.sort_by_key(|edit| (edit.span.start, edit.span.end));
        edits
    }
}

/// What comes in between two entries of a container.
#[derive(Default)]
struct Slot {
    /// Behind the entry before.
    behind: Vec<usize>,
    /// Directly before the next entry, where something else stands between.
    before: Vec<usize>,
}

impl Entries<'_> {
    /// The edits that make all that was asked for.
    pub fn finish(mut self) -> Vec<Edit> {
        // What is within something that goes, goes with it.
        let gone = std::mem::take(&mut self.gone);
        let is_within_gone = |node: usize| {
            let mut around = self.nodes[node].parent;
            while let Some(node) = around {
                if gone.contains(&node) {
                    return true;
                }
                around = self.nodes[node].parent;
            }
            false
        };
        let kept: BTreeSet<usize> = gone.iter().copied().filter(|node| !is_within_gone(*node)).collect();
        let mut touched: BTreeSet<Option<usize>> = kept.iter().map(|node| self.nodes[*node].parent).collect();
        let lives = |container: &Option<usize>| {
            container.is_none_or(|node| !gone.contains(&node) && !is_within_gone(node))
        };
        touched.extend(self.added.keys().copied().filter(lives));
        self.gone = kept;
        let mut cuts = Cuts::default();
        // What is inside comes before what is behind: where nothing closes a container, both have the same place.
        for container in touched.into_iter().rev() {
            self.finish_container(container, &mut cuts);
        }
        let mut edits = cuts.into_edits();
        // What was to change within something that goes, goes with it.
        let all = std::mem::take(&mut self.edits);
        edits.extend(
            all.into_iter().filter(|edit| !self.innermost(edit.span).is_some_and(|node| self.goes(node))),
        );
        edits
    }

    fn finish_container(&self, container: Option<usize>, cuts: &mut Cuts) {
        let children: Vec<usize> = self.children(container).collect();
        let slots = self.slots(container, &children);
        if let Some(node) = container
            && let Inside::Closed(cut, open, close) = &self.nodes[node].inside
        {
            let all: Vec<usize> = slots.iter().flat_map(|slot| slot.behind.iter().copied()).collect();
            let inside = self.opened(container, &all);
            cuts.cut(cut.range());
            cuts.insert(cut.start as usize, &format!("{open}{inside}{close}"));
            return;
        }
        let stays = |child: &usize| !self.gone.contains(child);
        let trailing = self.has_trailing_separator(container);
        self.finish_separators(container, &children, &slots, trailing, cuts);
        for (at, child) in children.iter().enumerate().filter(|(_, child)| !stays(child)) {
            cuts.cut(self.cut_of(&children, at, *child));
        }
        // What comes in hangs on the entry before it that stays.
        let mut previous = None;
        let mut pending: Vec<usize> = Vec::new();
        for (at, slot) in slots.iter().enumerate() {
            pending.extend(&slot.behind);
            match children.get(at).copied().filter(stays) {
                Some(next) => {
                    self.put_behind(container, previous, Some(next), &pending, trailing, cuts);
                    pending.clear();
                    self.put_before(container, next, &slot.before, cuts);
                    previous = Some(next);
                }
                None => pending.extend(&slot.before),
            }
        }
        self.put_behind(container, previous, None, &pending, trailing, cuts);
    }

    /// What comes in before each child, and behind the last.
    fn slots(&self, container: Option<usize>, children: &[usize]) -> Vec<Slot> {
        let mut slots: Vec<Slot> = (0..=children.len()).map(|_| Slot::default()).collect();
        let Some(added) = self.added.get(&container) else { return slots };
        let places: HashMap<usize, usize> =
            children.iter().enumerate().map(|(at, child)| (*child, at)).collect();
        for (anchor, new) in added {
            match anchor {
                Anchor::First => slots[0].behind.push(*new),
                Anchor::Last => slots[children.len()].behind.push(*new),
                Anchor::After(node) => slots[places.get(node).map_or(0, |at| at + 1)].behind.push(*new),
                Anchor::Before(node) => {
                    let at = places.get(node).copied().unwrap_or_default();
                    match self.stands_apart(*node) {
                        true => slots[at].before.push(*new),
                        false => slots[at].behind.push(*new),
                    }
                }
            }
        }
        slots
    }

    /// Whether something that is no entry stands between an entry with its notes and the one before.
    fn stands_apart(&self, node: usize) -> bool {
        let lead = self.lead(node);
        let from = match self.previous_sibling(node) {
            Some(previous) if self.is_last_on_line(previous) => {
                line_content_end(self.text, self.behind(previous))
            }
            Some(previous) => self.behind(previous),
            None => match self.inside_start(self.nodes[node].parent) {
                at if self.is_line_over(at) && at > self.body => line_content_end(self.text, at),
                at => at,
            },
        };
        self.text.get(from..lead).is_some_and(|between| !between.trim().is_empty())
    }

    /// What goes with one child.
    fn cut_of(&self, children: &[usize], at: usize, child: usize) -> Range<usize> {
        let own = &self.nodes[child];
        if self.has_own_lines(child) {
            let lead = self.lead(child);
            let end = line_content_end(self.text, self.behind(child));
            let blank = |line: usize| {
                line < self.text.len() && self.text[line..line_content_end(self.text, line)].trim().is_empty()
            };
            let is_first = at == 0 || self.stands_apart(child);
            // The blank lines above go along; of the first entry, and one that has something else above it, those below.
            let mut from = lead;
            if !is_first {
                while from > self.body
                    && blank(line_start(self.text, from - 1))
                    && line_start(self.text, from - 1) >= self.body
                {
                    from = line_start(self.text, from - 1);
                }
            }
            let mut to = end;
            if is_first && at + 1 < children.len() {
                while next_line(self.text, to) > to && blank(next_line(self.text, to)) {
                    to = line_content_end(self.text, next_line(self.text, to));
                }
            }
            if from <= self.body {
                return self.body..next_line(self.text, to);
            }
            // From the end of the line above, so that a last line without an end stays without one.
            let above = line_content_end(self.text, line_start(self.text, from - 1));
            return above..to;
        }
        let (start, end) = (own.span.start as usize, own.span.end as usize);
        let behind = self.separator_of(child).map_or(end, |range| range.end);
        let is_trivia = |text: &str| {
            text.chars().all(|next| next.is_whitespace() || self.style.optional_separators.contains(&next))
        };
        // A note in front of it on its line stays, with the end of that line.
        let before = match at.checked_sub(1) {
            Some(previous) => self.behind(children[previous]),
            None => self.inside_start(own.parent),
        };
        // What stands before it on its line opens the container, and those behind it begin where it did.
        if self.style.nests_by_indent && self.is_last_on_line(child) && !self.has_own_start(child) {
            let next = children.get(at + 1).filter(|next| {
                self.lead(**next) == line_start(self.text, self.nodes[**next].span.start as usize)
            });
            return start..next.map_or(behind, |next| self.nodes[*next].span.start as usize);
        }
        let in_front = &self.text[line_start(self.text, start).max(before).min(start)..start];
        if !in_front.trim().is_empty() && self.is_last_on_line(child) {
            return start..behind;
        }
        if let Some(next) = children.get(at + 1) {
            let next = self.lead(*next);
            if self.text.get(behind..next).is_some_and(is_trivia) {
                return start..next;
            }
        }
        if let Some(previous) = at.checked_sub(1) {
            let previous = self
                .separator_of(children[previous])
                .map_or(self.nodes[children[previous]].span.end as usize, |range| range.end);
            if self.text.get(previous..start).is_some_and(is_trivia) {
                return previous..behind;
            }
            return start..behind;
        }
        let rest = &self.text[behind..self.inside_end(own.parent).max(behind)];
        let blanks = rest.len() - rest.trim_start_matches([' ', '\t']).len();
        let is_padded = self.text[self.inside_start(own.parent).min(start)..start].ends_with([' ', '\t']);
        start..if is_padded { behind + blanks } else { behind }
    }

    /// Sets right what stands between the entries that are there in the end.
    fn finish_separators(
        &self,
        container: Option<usize>,
        children: &[usize],
        slots: &[Slot],
        trailing: bool,
        cuts: &mut Cuts,
    ) {
        let Some(sign) = self.style.separator.filter(|_| container.is_some()) else { return };
        let mut is_last = true;
        for (at, child) in children.iter().enumerate().rev() {
            is_last &= slots[at + 1].behind.is_empty() && slots[at + 1].before.is_empty();
            if self.gone.contains(child) {
                continue;
            }
            let wants = !is_last || trailing;
            match (self.separator_of(*child), wants) {
                (Some(range), false) => cuts.cut(range),
                (None, true) => cuts.insert(self.nodes[*child].span.end as usize, &sign.to_string()),
                _ => {}
            }
            is_last = false;
        }
    }

    /// Puts what is new behind `previous`, or at the start.
    fn put_behind(
        &self,
        container: Option<usize>,
        previous: Option<usize>,
        next: Option<usize>,
        new: &[usize],
        trailing: bool,
        cuts: &mut Cuts,
    ) {
        if new.is_empty() {
            return;
        }
        let end = self.line_end(self.crlf(new));
        let stays = |child: &usize| !self.gone.contains(child);
        let is_empty = !self.children(container).any(|child| stays(&child));
        let share_a_line = match (previous, next) {
            (Some(previous), Some(next)) => {
                let (from, to) = (self.nodes[previous].span.end, self.nodes[next].span.start);
                !Span { start: from, end: to }.of(self.text).contains('\n')
            }
            _ => false,
        };
        let multiline = self.is_multiline(container) && !share_a_line;
        if is_empty && container.is_some() && !multiline {
            // Nothing is left in it, or was there.
            let from = self.inside_start(container);
            let blanks = &self.text[from..self.inside_end(container)];
            if self.children(container).next().is_none() && blanks.trim().is_empty() && self.wants_lines(new)
            {
                cuts.cut(from..from + blanks.len());
                cuts.insert(from, &self.opened(container, new));
                return;
            }
        }
        let sign = self.new_separator(container);
        if multiline {
            let indent = self.indent_for(container, previous.or(next), new);
            let blank = end.repeat(self.blank_lines_between(container, previous, next));
            let lines = self.lines_of(container, new, &indent, next.is_some() || trailing, end, &blank);
            let at = match previous {
                Some(previous) if self.is_last_on_line(previous) => {
                    line_content_end(self.text, self.behind(previous))
                }
                Some(previous) => self.behind(previous),
                None => {
                    let at = self.inside_start(container);
                    let starts_file = at == self.body && blanks_before(self.text, at).is_some();
                    match next {
                        Some(next) if starts_file || self.has_own_start(next) => {
                            cuts.insert(self.lead(next), &format!("{lines}{end}{blank}"));
                            return;
                        }
                        None if starts_file => {
                            self.put_into_empty_file(&lines, end, cuts);
                            return;
                        }
                        _ if self.is_line_over(at) => line_content_end(self.text, at),
                        _ => at,
                    }
                }
            };
            match (previous, next) {
                (None, Some(_)) => cuts.insert(at, &format!("{end}{lines}{blank}")),
                (None, None) => {
                    let apart = if container.is_none() { blank.as_str() } else { "" };
                    cuts.insert(at, &format!("{end}{apart}{lines}"));
                }
                (Some(_), _) => cuts.insert(at, &format!("{end}{blank}{lines}")),
            }
            return;
        }
        let gap = self.inline_gap(container);
        let texts: Vec<String> = new.iter().map(|new| self.inline_text(*new)).collect();
        let required = self.style.separator.is_some();
        let between = if required { format!("{sign}{gap}") } else { gap.clone() };
        let joined = texts.join(&between);
        let last_sign = if required && trailing { sign.as_str() } else { "" };
        match (previous, next) {
            (Some(previous), _) => {
                let at = match required {
                    true => self.behind(previous),
                    false => self.nodes[previous].span.end as usize,
                };
                let last_sign = if required && next.is_some() { sign.as_str() } else { last_sign };
                cuts.insert(at, &format!("{gap}{joined}{last_sign}"));
            }
            (None, Some(next)) => cuts.insert(self.lead(next), &format!("{joined}{between}")),
            (None, None) => {
                let from = self.inside_start(container);
                let blanks = &self.text[from..self.inside_end(container)];
                let pad = if blanks.trim().is_empty() && self.children(container).next().is_none() {
                    blanks
                } else {
                    ""
                };
                let at = match self.children(container).next() {
                    Some(first) => self.nodes[first].span.start as usize,
                    None => from + pad.len(),
                };
                cuts.insert(at, &format!("{joined}{last_sign}{pad}"));
            }
        }
    }

    /// Puts what is new directly before an entry and its notes.
    fn put_before(&self, container: Option<usize>, next: usize, new: &[usize], cuts: &mut Cuts) {
        if new.is_empty() {
            return;
        }
        let end = self.line_end(self.crlf(new));
        if !self.has_own_lines(next) {
            let sign = self.new_separator(container);
            let gap = self.inline_gap(container);
            for new in new {
                let text = self.inline_text(*new);
                let sign = if self.style.separator.is_some() { sign.as_str() } else { "" };
                cuts.insert(self.lead(next), &format!("{text}{sign}{gap}"));
            }
            return;
        }
        let indent = self.indent_for(container, Some(next), new);
        let blank = end.repeat(self.blank_lines_between(container, None, self.next_sibling(next)));
        let lines = self.lines_of(container, new, &indent, true, end, &blank);
        cuts.insert(self.lead(next), &format!("{lines}{end}{blank}"));
    }

    /// The only lines of a file in which nothing stands that matters.
    fn put_into_empty_file(&self, lines: &str, end: &str, cuts: &mut Cuts) {
        let text = &self.text[self.body..];
        let gap = if text.is_empty() || text.ends_with('\n') { "" } else { end };
        let prolog = match (text.trim().is_empty(), self.prolog.is_empty()) {
            (true, false) => format!("{}{end}", self.prolog),
            _ => String::new(),
        };
        cuts.insert(self.text.len(), &format!("{gap}{prolog}{lines}{end}"));
    }

    /// What stands between the brackets of a container that had nothing in it.
    fn opened(&self, container: Option<usize>, new: &[usize]) -> String {
        let end = self.line_end(self.crlf(new));
        match self.indent_of(container).filter(|_| self.wants_lines(new)) {
            Some(around) => {
                let indent = self.indent_for(container, None, new);
                let trailing = self.has_trailing_separator(container);
                let lines = self.lines_of(container, new, &indent, trailing, end, "");
                format!("{end}{lines}{end}{around}")
            }
            None => {
                let between = format!("{}{}", self.new_separator(container), self.style.gap);
                new.iter().map(|new| self.inline_text(*new)).collect::<Vec<_>>().join(&between)
            }
        }
    }

    /// Whether something new had a line of its own where it comes from.
    fn wants_lines(&self, new: &[usize]) -> bool {
        new.iter().any(|new| match &self.new[*new] {
            New::Leaf(entry) => entry.indent.is_some() || entry.text.contains('\n'),
            New::Container(head, _) => head.indent.is_some(),
        })
    }

    /// Whether lines ended with a carriage return where something new comes from.
    fn crlf(&self, new: &[usize]) -> bool {
        let mut next = new.first().copied();
        while let Some(new) = next {
            match &self.new[new] {
                New::Leaf(entry) => return entry.crlf,
                New::Container(_, children) => next = children.last().copied(),
            }
        }
        false
    }

    /// The sign that stands behind something new.
    fn new_separator(&self, container: Option<usize>) -> String {
        match self.style.separator.filter(|_| container.is_some()) {
            Some(sign) => sign.to_string(),
            None => self.optional_separator(container).to_owned(),
        }
    }

    /// The blanks before something new.
    fn indent_for(&self, container: Option<usize>, neighbour: Option<usize>, new: &[usize]) -> String {
        let model = new.first().and_then(|new| self.model_indent(*new));
        if let Some(indent) = self.indent_within(container, neighbour) {
            return indent;
        }
        let is_closed = container.is_some_and(|node| {
            self.style.nests_by_indent || !matches!(self.nodes[node].inside, Inside::Below(_))
        });
        match (container, self.indent_of(container)) {
            (Some(_), Some(around)) if is_closed => {
                let unit = self.indent_unit().map(str::to_owned);
                let deeper = model.filter(|model| model.len() > around.len() && model.starts_with(around));
                match (unit, deeper) {
                    (Some(unit), _) => format!("{around}{unit}"),
                    (None, Some(model)) => model.to_owned(),
                    (None, None) => format!("{around}  "),
                }
            }
            _ => model.unwrap_or_default().to_owned(),
        }
    }

    fn model_indent(&self, new: usize) -> Option<&str> {
        match &self.new[new] {
            New::Leaf(entry) => entry.indent.as_deref(),
            New::Container(head, _) => head.indent.as_deref(),
        }
    }

    /// What is new on lines of their own, the last without its line end. `more` tells whether the last one has a
    /// separator behind it, `blank` what stands between two of them.
    fn lines_of(
        &self,
        container: Option<usize>,
        new: &[usize],
        indent: &str,
        more: bool,
        end: &str,
        blank: &str,
    ) -> String {
        let outer = self.new_separator(container);
        // Within what is new itself separators are needed also where the file as a whole needs none.
        let inner = self.style.separator.map_or_else(|| outer.clone(), String::from);
        let required = self.style.separator.is_some();
        let mut out = String::new();
        // What is still to be written: something new with its blanks, or what closes a container.
        enum Todo<'n> {
            New(usize, String, &'n str),
            Close(&'n str, String, &'n str),
            Blank,
        }
        let mut todo: Vec<Todo<'_>> = Vec::new();
        for (at, own) in new.iter().enumerate().rev() {
            let is_last = at + 1 == new.len();
            let sign = if !required || !is_last || more { outer.as_str() } else { "" };
            todo.push(Todo::New(*own, indent.to_owned(), sign));
            if at > 0 {
                todo.push(Todo::Blank);
            }
        }
        let mut is_first = true;
        while let Some(next) = todo.pop() {
            match next {
                Todo::Blank => out.push_str(blank),
                Todo::Close(close, indent, sign) => {
                    if close.is_empty() {
                        continue;
                    }
                    out.push_str(&format!("{end}{indent}{close}{sign}"));
                }
                Todo::New(own, indent, sign) => {
                    if !std::mem::take(&mut is_first) {
                        out.push_str(end);
                    }
                    match &self.new[own] {
                        New::Leaf(entry) => {
                            for note in &entry.notes {
                                out.push_str(&format!("{indent}{note}{end}"));
                            }
                            let text = self.indented(entry, &indent, end);
                            out.push_str(&format!("{indent}{text}{sign}{}", entry.note_behind));
                        }
                        New::Container(head, children) => {
                            let lines =
                                head.open.split('\n').map(|line| line.strip_suffix('\r').unwrap_or(line));
                            let open = lines.collect::<Vec<_>>().join(end);
                            out.push_str(&format!("{indent}{open}"));
                            todo.push(Todo::Close(&head.close, indent.clone(), sign));
                            let within =
                                self.indent_below(head.indent.as_deref(), &indent, children, &head.close);
                            for (at, child) in children.iter().enumerate().rev() {
                                let is_last = at + 1 == children.len();
                                let sign = if !required || !is_last { inner.as_str() } else { "" };
                                todo.push(Todo::New(*child, within.clone(), sign));
                            }
                        }
                    }
                }
            }
        }
        out
    }

    /// The blanks before what is in a parent that is new itself.
    fn indent_below(&self, model: Option<&str>, indent: &str, children: &[usize], close: &str) -> String {
        if close.is_empty() && !self.style.nests_by_indent {
            return children
                .first()
                .and_then(|child| self.model_indent(*child))
                .unwrap_or_default()
                .to_owned();
        }
        if let Some(unit) = self.indent_unit() {
            return format!("{indent}{unit}");
        }
        let own = children.first().and_then(|child| self.model_indent(*child));
        match (own, model) {
            (Some(own), Some(model)) if own.starts_with(model) => format!("{indent}{}", &own[model.len()..]),
            (Some(own), None) => own.to_owned(),
            _ => format!("{indent}  "),
        }
    }

    /// The text of a new entry whose further lines are indented as they must be behind `indent`.
    fn indented(&self, entry: &NewEntry, indent: &str, end: &str) -> String {
        let lines = entry.text.split('\n').map(|line| line.strip_suffix('\r').unwrap_or(line));
        let model = entry.indent.as_deref().unwrap_or("");
        let mut out = String::with_capacity(entry.text.len());
        // A value that goes over several lines must stay what it is.
        let shifts = !entry.is_rigid
            && entry.text.split('\n').skip(1).all(|line| line.trim().is_empty() || line.starts_with(model));
        let deepest = |line: &str| line.len() - line.trim_start_matches([' ', '\t']).len();
        let own_unit = entry
            .text
            .split('\n')
            .skip(1)
            .filter(|line| !line.trim().is_empty())
            .map(deepest)
            .filter(|deep| *deep > model.len())
            .min()
            .map(|deep| deep - model.len());
        for (number, line) in lines.enumerate() {
            if number == 0 {
                out.push_str(line);
                continue;
            }
            out.push_str(end);
            if !shifts || model == indent || line.trim().is_empty() {
                out.push_str(line);
                continue;
            }
            let rest = &line[model.len()..];
            let deeper = deepest(rest);
            out.push_str(indent);
            match (self.indent_unit(), own_unit) {
                (Some(unit), Some(own)) if deeper % own == 0 && !self.style.nests_by_indent => {
                    out.push_str(&unit.repeat(deeper / own));
                    out.push_str(&rest[deeper..]);
                }
                _ => out.push_str(rest),
            }
        }
        out
    }

    /// The text of something new on one line with its neighbours.
    fn inline_text(&self, new: usize) -> String {
        enum Todo<'n> {
            New(usize),
            Text(&'n str),
        }
        let sign = self.style.separator.map(String::from).unwrap_or_default();
        let between = format!("{sign}{}", self.style.gap);
        let mut out = String::new();
        let mut todo = vec![Todo::New(new)];
        while let Some(next) = todo.pop() {
            match next {
                Todo::Text(text) => out.push_str(text),
                Todo::New(own) => match &self.new[own] {
                    New::Leaf(entry) => out.push_str(&entry.text),
                    New::Container(head, children) => {
                        out.push_str(&head.open);
                        todo.push(Todo::Text(&head.close));
                        for (at, child) in children.iter().enumerate().rev() {
                            todo.push(Todo::New(*child));
                            if at > 0 {
                                todo.push(Todo::Text(&between));
                            }
                        }
                    }
                },
            }
        }
        out
    }
}
