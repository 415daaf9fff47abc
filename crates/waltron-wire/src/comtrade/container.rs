//! The combined file (`.cff`): C37.111-2013, clause 9.

use super::error::ContainerError;

/// The parts of a combined file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Container<'a> {
    /// The configuration.
    pub config: &'a [u8],
    /// The information text.
    pub information: &'a [u8],
    /// The header text.
    pub header: &'a [u8],
    /// The data.
    pub data: &'a [u8],
}

const MARK: &[u8] = b"--- file type:";

impl<'a> Container<'a> {
    /// Takes a combined file apart.
    ///
    /// # Errors
    /// [`ContainerError`]: no configuration, no data, data shorter than they say.
    pub fn parse(bytes: &'a [u8]) -> Result<Self, ContainerError> {
        let (found, declared) = Self::what_is_there(bytes)?;
        match declared {
            Some(declared) if declared > found.data.len() => {
                Err(ContainerError::Truncated { declared, held: found.data.len() })
            }
            _ => Ok(found),
        }
    }

    /// Takes a combined file apart, of which the end may be missing; with how many bytes of data it
    /// declares.
    ///
    /// # Errors
    /// [`ContainerError`]: no configuration, no data.
    pub fn what_is_there(bytes: &'a [u8]) -> Result<(Self, Option<usize>), ContainerError> {
        let mut size = None;
        let mut found = Self::default();
        let (mut has_config, mut has_data) = (false, false);
        let mut at = 0;
        // The section being read: its kind and where it began.
        let mut open: Option<(String, usize)> = None;
        while at < bytes.len() {
            let end =
                bytes[at..].iter().position(|b| *b == b'\n').map_or(bytes.len(), |n| at + n + 1);
            let line = bytes[at..end].trim_ascii();
            if line.len() >= MARK.len() && line[..MARK.len()].eq_ignore_ascii_case(MARK) {
                if let Some((kind, start)) = open.take() {
                    found.put(&kind, &bytes[start..at]);
                }
                let text = String::from_utf8_lossy(&line[MARK.len()..]);
                let kind = text.trim().trim_end_matches('-').trim().to_ascii_uppercase();
                match kind.split_whitespace().next() {
                    Some("CFG") => has_config = true,
                    Some("INF" | "HDR") => {}
                    Some("DAT") => {
                        has_data = true;
                        // Everything behind the head is data; binary data say how many bytes.
                        let rest = &bytes[end..];
                        let declared =
                            kind.split(':').nth(1).and_then(|n| n.trim().parse::<usize>().ok());
                        size = declared;
                        found.data = &rest[..declared.unwrap_or(rest.len()).min(rest.len())];
                        break;
                    }
                    _ => {
                        let line_number = bytes[..at].iter().filter(|b| **b == b'\n').count() + 1;
                        let text = String::from_utf8_lossy(line).chars().take(60).collect();
                        return Err(ContainerError::Head { line: line_number, text });
                    }
                }
                open = Some((kind, end));
            }
            at = end;
        }
        if let Some((kind, start)) = open.filter(|_| !has_data) {
            found.put(&kind, &bytes[start..]);
        }
        match (has_config, has_data) {
            (false, _) => Err(ContainerError::NoSection { kind: "CFG" }),
            (_, false) => Err(ContainerError::NoSection { kind: "DAT" }),
            _ => Ok((found, size)),
        }
    }

    fn put(&mut self, kind: &str, bytes: &'a [u8]) {
        match kind.split_whitespace().next() {
            Some("CFG") => self.config = bytes,
            Some("INF") => self.information = bytes,
            Some("HDR") => self.header = bytes,
            _ => {}
        }
    }
}
