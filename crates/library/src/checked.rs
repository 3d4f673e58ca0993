use waverant_container::FileSurvey;

/// What was found of a take.
#[derive(Debug)]
pub struct CheckedTake {
    /// Its structure.
    pub survey: FileSurvey,
    /// Its length in bytes.
    pub size_bytes: u64,
    /// The digest of the file.
    pub sha256: [u8; 32],
    /// The digest in the records.
    pub recorded_sha256: Option<[u8; 32]>,
}

impl CheckedTake {
    /// Whether the file is the one of the records; none if they do not tell.
    pub fn digest_matches(&self) -> Option<bool> {
        self.recorded_sha256.map(|recorded| recorded == self.sha256)
    }

    /// What is wrong, in words.
    pub fn findings(&self) -> Vec<String> {
        let mut findings = self.survey.findings();
        if self.digest_matches() == Some(false) {
            findings.push("the file is not the one that was recorded: its SHA-256 is another".to_owned());
        }
        findings
    }
}
