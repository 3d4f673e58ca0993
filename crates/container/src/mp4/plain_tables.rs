use super::boxes::BoxWriter;

/// Where the samples of a track are, as a plain file tells it. Equal neighbours are counted.
#[derive(Debug, Default)]
pub(crate) struct PlainTables {
    durations: Vec<(u32, u32)>,
    offsets: Vec<(u32, i32)>,
    /// Numbers of the sync samples.
    syncs: Vec<u32>,
    sizes: Vec<u32>,
    /// Where in the payload each chunk begins, and how many samples it has.
    chunks: Vec<(u64, u32)>,
    duration: u64,
    /// Where in the file the payload begins.
    data_at: u64,
    is_large: bool,
}

fn count<T: PartialEq>(runs: &mut Vec<(u32, T)>, value: T) {
    match runs.last_mut() {
        Some((count, last)) if *last == value => *count += 1,
        _ => runs.push((1, value)),
    }
}

fn length<T>(rows: &[T]) -> u32 {
    u32::try_from(rows.len()).unwrap_or(u32::MAX)
}

impl PlainTables {
    /// How long the samples last together, on the clock of the track.
    pub(super) fn duration(&self) -> u64 {
        self.duration
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.sizes.is_empty()
    }

    /// The samples that follow lie behind each other from `at` of the payload on.
    pub(crate) fn begin_chunk(&mut self, at: u64, samples: usize) {
        self.chunks.push((at, u32::try_from(samples).unwrap_or(u32::MAX)));
    }

    /// A sample that is presented `offset` after it is decoded.
    pub(crate) fn begin_sample(&mut self, size: u32, offset: i32, is_sync: bool) {
        count(&mut self.offsets, offset);
        self.sizes.push(size);
        if is_sync {
            self.syncs.push(length(&self.sizes));
        }
    }

    /// The last sample that was begun lasts so long, on the clock of the track.
    pub(crate) fn end_sample(&mut self, duration: i64) {
        let duration = u32::try_from(duration.max(0)).unwrap_or(u32::MAX);
        count(&mut self.durations, duration);
        self.duration = self.duration.saturating_add(duration.into());
    }

    /// Where in the file the payload begins.
    pub(crate) fn set_data_at(&mut self, data_at: u64) {
        self.data_at = data_at;
    }

    /// The places of the chunks take 64 bits.
    pub(crate) fn set_large(&mut self, is_large: bool) {
        self.is_large = is_large;
    }

    /// The boxes of the sample table behind the sample entry.
    ///
    /// Source: ISO/IEC 14496-12, 8.6.1, 8.6.2 and 8.7
    pub(super) fn write(&self, out: &mut BoxWriter) {
        out.full_box(b"stts", 0, 0, |out| {
            out.u32(length(&self.durations));
            for (count, duration) in &self.durations {
                out.u32(*count).u32(*duration);
            }
        });
        if self.offsets.iter().any(|(_, offset)| *offset != 0) {
            out.full_box(b"ctts", 1, 0, |out| {
                out.u32(length(&self.offsets));
                for (count, offset) in &self.offsets {
                    out.u32(*count).i32(*offset);
                }
            });
        }
        if self.syncs.len() < self.sizes.len() {
            out.full_box(b"stss", 0, 0, |out| {
                out.u32(length(&self.syncs));
                for number in &self.syncs {
                    out.u32(*number);
                }
            });
        }
        out.full_box(b"stsc", 0, 0, |out| self.write_chunk_runs(out));
        out.full_box(b"stsz", 0, 0, |out| {
            out.u32(0).u32(length(&self.sizes));
            for size in &self.sizes {
                out.u32(*size);
            }
        });
        out.full_box(if self.is_large { b"co64" } else { b"stco" }, 0, 0, |out| {
            out.u32(length(&self.chunks));
            for (at, _) in &self.chunks {
                let at = self.data_at + at;
                if self.is_large {
                    out.u64(at);
                } else {
                    out.u32(u32::try_from(at).unwrap_or(u32::MAX));
                }
            }
        });
    }

    /// From which chunk on how many samples are in each.
    fn write_chunk_runs(&self, out: &mut BoxWriter) {
        let mut runs: Vec<(u32, u32)> = Vec::new();
        for (number, (_, samples)) in (1..).zip(&self.chunks) {
            if runs.last().is_none_or(|(_, last)| last != samples) {
                runs.push((number, *samples));
            }
        }
        out.u32(length(&runs));
        for (first, samples) in runs {
            out.u32(first).u32(samples).u32(1);
        }
    }
}
