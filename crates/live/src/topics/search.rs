//! Finding what a filter matches among the live topics, and what it just misses, by walking only where it leads.

use moorfall_wire::TopicFilter;

use crate::topics::node::Walker;

/// What was found.
#[derive(Debug, Default)]
pub struct Found {
    /// The first topics that are caught, by name.
    pub caught: Vec<String>,
    /// How many are caught.
    pub total: u64,
    /// Topics that are not caught, those first that fall out at the deepest level; none of those that fall out at the
    /// first.
    pub missed: Vec<String>,
}

/// Looks through the live topics. At most `limit` topics of each kind are named.
pub fn search(root: &Walker, filter: &TopicFilter, limit: usize) -> Found {
    let levels: Vec<&str> = filter.levels().collect();
    let mut search = Search { levels, limit, caught: Vec::new(), total: 0, missed: Vec::new() };
    search.missed.resize_with(search.levels.len() + 1, Vec::new);
    search.visit(root, 0, &mut String::new());
    // Deepest first; topics within a depth are in order already.
    let missed = search.missed.into_iter().skip(1).rev().flatten().take(limit).collect();
    Found { caught: search.caught, total: search.total, missed }
}

struct Search<'a> {
    levels: Vec<&'a str>,
    limit: usize,
    caught: Vec<String>,
    total: u64,
    /// By the depth at which they fall out.
    missed: Vec<Vec<String>>,
}

impl Search<'_> {
    /// Looks at a level that the filter has led to, and on from there.
    fn visit(&mut self, node: &Walker, depth: usize, path: &mut String) {
        let Some(&wanted) = self.levels.get(depth) else {
            if node.is_topic() {
                self.catch(path, 1);
            }
            // What goes on behind the filter's end.
            return self.miss(node, depth, path, None);
        };
        match wanted {
            "#" if depth > 0 => self.catch_all(node, path),
            "#" | "+" => {
                for (level, child) in node.children() {
                    if depth == 0 && level.starts_with('$') {
                        continue;
                    }
                    let before = push(path, &level, depth);
                    if wanted == "#" {
                        self.catch_all(&child, path);
                    } else {
                        self.visit(&child, depth + 1, path);
                    }
                    path.truncate(before);
                }
                self.miss_if_topic(node, depth, path);
            }
            wanted => {
                if let Some(child) = node.child(wanted) {
                    let before = push(path, wanted, depth);
                    self.visit(&child, depth + 1, path);
                    path.truncate(before);
                }
                self.miss_if_topic(node, depth, path);
                self.miss(node, depth, path, Some(wanted));
            }
        }
    }

    fn catch(&mut self, path: &str, number: u64) {
        self.total += number;
        if self.caught.len() < self.limit {
            self.caught.push(path.to_owned());
        }
    }

    /// Everything here and below is caught; only as much of it is looked at as is named.
    fn catch_all(&mut self, node: &Walker, path: &mut String) {
        let total = self.total + node.topics();
        self.name_all(node, path);
        self.total = total;
    }

    fn name_all(&mut self, node: &Walker, path: &mut String) {
        if node.is_topic() {
            self.catch(path, 0);
        }
        if self.caught.len() >= self.limit {
            return;
        }
        for (level, child) in node.children() {
            let before = push(path, &level, 1);
            self.name_all(&child, path);
            path.truncate(before);
        }
    }

    /// The topic ends before the filter does.
    fn miss_if_topic(&mut self, node: &Walker, depth: usize, path: &str) {
        if node.is_topic() && self.missed[depth].len() < self.limit {
            self.missed[depth].push(path.to_owned());
        }
    }

    /// Names topics below that go another way than the filter.
    fn miss(&mut self, node: &Walker, depth: usize, path: &mut String, wanted: Option<&str>) {
        if depth == 0 || self.missed[depth].len() >= self.limit {
            return;
        }
        for (level, child) in node.children() {
            if Some(&*level) != wanted {
                let before = push(path, &level, depth);
                let left = self.limit - self.missed[depth].len();
                name(&child, path, left, &mut self.missed[depth]);
                path.truncate(before);
            }
            if self.missed[depth].len() >= self.limit {
                return;
            }
        }
    }
}

/// Names up to so many topics here and below.
fn name(node: &Walker, path: &mut String, left: usize, names: &mut Vec<String>) {
    let most = names.len() + left;
    if node.is_topic() {
        names.push(path.clone());
    }
    for (level, child) in node.children() {
        if names.len() >= most {
            return;
        }
        let before = push(path, &level, 1);
        let left = most - names.len();
        name(&child, path, left, names);
        path.truncate(before);
    }
}

/// Goes one level down; gives the length to go back to.
fn push(path: &mut String, level: &str, depth: usize) -> usize {
    let before = path.len();
    if depth > 0 {
        path.push('/');
    }
    path.push_str(level);
    before
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use moorfall_core::{Message, Passing, SessionKey, Time};
    use moorfall_wire::TopicName;

    use super::*;
    use crate::topics::hierarchy::{Noted, Topics};

    const TOPICS: [&str; 9] = [
        "harrowmere/gorge/kettle-weir/gate/target",
        "harrowmere/gorge/kettle-weir/stage/level",
        "harrowmere/gorge/kettle-weir/status",
        "harrowmere/gorge/nine-arches/stage/level",
        "harrowmere/high-moor/cold-tor/rain/depth",
        "harrowmere/gorge",
        "$inner/clock",
        "/odd//levels/",
        "other",
    ];

    fn found(filter: &str, limit: usize) -> Found {
        let topics = Topics::new(usize::MAX, Arc::default());
        for topic in TOPICS {
            let (name, now) = (topic.parse().unwrap(), Time::from_micros(1_000_000));
            let (qos, properties) = (moorfall_wire::QoS::AtMostOnce, Default::default());
            let message = Message::new(name, "1".into(), qos, false, properties, SessionKey(1), now);
            let publisher = &Arc::from("kettle-weir");
            topics
                .note(topic, Noted { messages: Passing::Messages(&[Arc::new(message)]), bytes: 1, publisher }, now)
                .unwrap();
        }
        search(&topics.walker(), &filter.parse().unwrap(), limit)
    }

    #[test]
    fn it_catches_what_the_standard_says() {
        for filter in [
            "#",
            "+",
            "+/#",
            "harrowmere/#",
            "harrowmere/+",
            "harrowmere/+/#",
            "harrowmere/+/+/stage/level",
            "$inner/#",
            "$inner/+",
            "/+//levels/",
            "/odd/#",
            "other",
            "other/#",
            "+/+/+/+/+",
            "harrowmere/gorge/kettle-weir/status/#",
            "nothing/here",
        ] {
            let parsed: TopicFilter = filter.parse().unwrap();
            let mut expected: Vec<&str> =
                TOPICS.into_iter().filter(|topic| parsed.matches(&topic.parse::<TopicName>().unwrap())).collect();
            expected.sort_unstable();
            let mut found = found(filter, 100);
            found.caught.sort();
            assert_eq!(found.caught, expected, "{filter}");
            assert_eq!(found.total, expected.len() as u64, "{filter}");
            let all = found.missed.len();
            found.missed.retain(|missed| !expected.contains(&missed.as_str()));
            assert_eq!(found.missed.len(), all, "{filter}: nothing is both caught and missed");
        }
    }

    #[test]
    fn the_nearest_misses_come_first_and_no_more_are_named_than_asked_for() {
        let near = found("harrowmere/gorge/kettle-weir/stage/level", 3);
        assert_eq!(near.caught, ["harrowmere/gorge/kettle-weir/stage/level"]);
        assert_eq!(
            near.missed,
            ["harrowmere/gorge/kettle-weir/gate/target", "harrowmere/gorge/kettle-weir/status", "harrowmere/gorge",]
        );
        let all = found("harrowmere/#", 2);
        assert_eq!((all.caught.len(), all.total), (2, 6));
        assert!(all.missed.is_empty(), "what falls out at the first level is far off");
    }
}
