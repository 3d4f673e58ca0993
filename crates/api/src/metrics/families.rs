use prometheus::proto::{Bucket, Counter, Gauge, Histogram, LabelPair, Metric, MetricFamily, MetricType};
use prometheus::{Encoder, TextEncoder};

/// What labels a sample has, by name.
pub(super) type Labels<'a> = &'a [(&'static str, &'a str)];

/// A family of samples that is being collected.
#[derive(Debug)]
pub(super) struct Family {
    name: &'static str,
    help: &'static str,
    kind: MetricType,
    samples: Vec<Metric>,
}

/// Counts of what was at most so large, and what all of it adds up to.
#[derive(Clone, Debug, Default)]
pub(super) struct Counts {
    /// Upper bounds, and how many were not larger, in rising order.
    pub(super) buckets: Vec<(f64, u64)>,
    pub(super) count: u64,
    pub(super) sum: f64,
}

impl Family {
    /// Of a figure that rises and falls.
    pub(super) fn gauge(name: &'static str, help: &'static str) -> Self {
        Self { name, help, kind: MetricType::GAUGE, samples: Vec::new() }
    }

    /// Of a count that only rises.
    pub(super) fn counter(name: &'static str, help: &'static str) -> Self {
        Self { name, help, kind: MetricType::COUNTER, samples: Vec::new() }
    }

    /// Of a spread.
    pub(super) fn histogram(name: &'static str, help: &'static str) -> Self {
        Self { name, help, kind: MetricType::HISTOGRAM, samples: Vec::new() }
    }

    pub(super) fn add(&mut self, labels: Labels<'_>, value: f64) {
        let mut sample = Metric::from_label(pairs(labels));
        if self.kind == MetricType::COUNTER {
            let mut counter = Counter::default();
            counter.set_value(value);
            sample.set_counter(counter);
        } else {
            let mut gauge = Gauge::default();
            gauge.set_value(value);
            sample.set_gauge(gauge);
        }
        self.samples.push(sample);
    }

    /// Adds a sample if there is a value.
    pub(super) fn maybe(&mut self, labels: Labels<'_>, value: Option<f64>) {
        if let Some(value) = value {
            self.add(labels, value);
        }
    }

    pub(super) fn add_counts(&mut self, labels: Labels<'_>, counts: &Counts) {
        let buckets = counts.buckets.iter().map(|(bound, count)| {
            let mut bucket = Bucket::default();
            bucket.set_upper_bound(*bound);
            bucket.set_cumulative_count(*count);
            bucket
        });
        let mut histogram = Histogram::default();
        histogram.set_bucket(buckets.collect());
        histogram.set_sample_count(counts.count);
        histogram.set_sample_sum(counts.sum);
        let mut sample = Metric::from_label(pairs(labels));
        sample.set_histogram(histogram);
        self.samples.push(sample);
    }
}

fn pairs(labels: Labels<'_>) -> Vec<LabelPair> {
    let pair = |(name, value): &(&str, &str)| {
        let mut pair = LabelPair::default();
        pair.set_name((*name).to_owned());
        pair.set_value((*value).to_owned());
        pair
    };
    labels.iter().map(pair).collect()
}

/// Families as text; those without samples are left out.
pub(super) fn written(families: &[Family]) -> String {
    let told = families.iter().filter(|family| !family.samples.is_empty()).map(|family| {
        let mut made = MetricFamily::default();
        made.set_name(format!("waverant_{}", family.name));
        made.set_help(family.help.to_owned());
        made.set_field_type(family.kind);
        made.set_metric(family.samples.clone());
        made
    });
    let mut text = Vec::new();
    // It fails for families without a name or samples only.
    let _ = TextEncoder::new().encode(&told.collect::<Vec<_>>(), &mut text);
    String::from_utf8(text).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn samples_are_written_with_their_labels() {
        let mut sent = Family::counter("leg_sent_bytes_total", "Payload sent.");
        sent.add(&[("channel", "finish-line"), ("destination", "a \"quoted\" name")], 7.0);
        let mut lag = Family::histogram("leg_lag_seconds", "Behind.");
        lag.add_counts(&[], &Counts { buckets: vec![(0.1, 3), (1.0, 4)], count: 5, sum: 2.5 });
        let mut cpu = Family::gauge("host_cpu_ratio", "Used.");
        cpu.maybe(&[], None);
        let text = written(&[sent, lag, cpu]);
        let expected = "# HELP waverant_leg_sent_bytes_total Payload sent.\n\
            # TYPE waverant_leg_sent_bytes_total counter\n\
            waverant_leg_sent_bytes_total{channel=\"finish-line\",destination=\"a \\\"quoted\\\" name\"} 7\n\
            # HELP waverant_leg_lag_seconds Behind.\n\
            # TYPE waverant_leg_lag_seconds histogram\n\
            waverant_leg_lag_seconds_bucket{le=\"0.1\"} 3\n\
            waverant_leg_lag_seconds_bucket{le=\"1\"} 4\n\
            waverant_leg_lag_seconds_bucket{le=\"+Inf\"} 5\n\
            waverant_leg_lag_seconds_sum 2.5\n\
            waverant_leg_lag_seconds_count 5\n";
        assert_eq!(text, expected);
    }
}
