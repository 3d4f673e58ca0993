use std::time::Duration;

use serde_json::{Value, json};
use waverant_house::{DeliverySeen, ShownCall, TargetCondition, TriedTarget};
use waverant_model as model;
use waverant_relay::{CallForm, CallTarget};
use waverant_store::{Delivery, DeliveryState};

use crate::ApiState;

/// A target, without its secrets.
pub(crate) fn target(
    state: &ApiState,
    target: &CallTarget,
    condition: TargetCondition,
    waiting: u64,
) -> model::CallTarget {
    let rules = &target.rules;
    let directory = state.house.directory();
    let channel = rules.channel.and_then(|id| directory.channel(id)).map(|rules| rules.name.to_string());
    let (failing_since, fault) = condition.failing.unzip();
    model::CallTarget {
        id: target.id,
        name: target.name.clone(),
        address: target.shown_address(),
        is_mail: target.mailboxes().is_some(),
        channel,
        kinds: rules.kinds.iter().map(|kind| kind.word().to_owned()).collect(),
        is_on: rules.is_on,
        format: match &rules.form {
            CallForm::Event => model::CallFormat::Event,
            CallForm::Text { content_type, template } => {
                model::CallFormat::Text { content_type: content_type.clone(), template: template.clone() }
            }
        },
        waiting,
        took_at: condition.took_at,
        failing_since,
        fault,
    }
}

/// What of a target people decide on.
pub(crate) fn lasting(target: &model::CallTarget) -> Value {
    let model::CallTarget { name, address, channel, kinds, is_on, format, .. } = target;
    json!({ "name": name, "address": address, "channel": channel, "kinds": kinds, "is_on": is_on, "format": format })
}

fn request(ShownCall { address, headers, body }: ShownCall) -> model::CallRequest {
    let header = |(name, value): (&str, String)| model::CallHeader { name: name.to_owned(), value };
    model::CallRequest { address, headers: headers.into_iter().map(header).collect(), body }
}

fn millis(time: Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap_or(u64::MAX)
}

/// What a test came to.
pub(crate) fn tried(tried: TriedTarget) -> model::CallTargetTry {
    let seen = tried.seen;
    let answer = seen.status.map(|status| model::CallAnswer {
        status,
        content_type: None,
        body: seen.answer.clone(),
        took_ms: millis(seen.took),
    });
    model::CallTargetTry { request: tried.request.map(request), answer, fault: seen.fault }
}

/// A delivery, without its event.
pub(crate) fn delivery(delivery: &Delivery, target: String) -> model::Delivery {
    let event: Value = serde_json::from_str(&delivery.event).unwrap_or_default();
    let last = delivery.last.as_ref();
    model::Delivery {
        id: delivery.id,
        target,
        event_id: delivery.event_id.clone(),
        kind: delivery.kind.clone(),
        channel: delivery.channel.clone(),
        happened_at: delivery.happened_at,
        text: event["data"]["text"].as_str().unwrap_or_default().to_owned(),
        state: match delivery.state {
            DeliveryState::Waiting => model::DeliveryState::Waiting,
            DeliveryState::Delivered => model::DeliveryState::Delivered,
            DeliveryState::GivenUp => model::DeliveryState::GivenUp,
        },
        tries: delivery.tries,
        next_at: (delivery.state == DeliveryState::Waiting).then_some(delivery.next_at),
        tried_at: last.map(|last| last.at),
        took_ms: last.map(|last| millis(last.took)),
        status: last.and_then(|last| last.status),
        fault: last.and_then(|last| last.fault.clone()),
    }
}

/// A delivery with its call.
pub(crate) fn delivery_seen(seen: DeliverySeen) -> model::DeliveryDetail {
    let mut told = delivery(&seen.delivery, seen.target);
    let request = match seen.request.transpose() {
        Ok(shown) => shown.map(request),
        Err(fault) => {
            told.fault = told.fault.or(Some(fault));
            None
        }
    };
    let answer = seen.delivery.last.map(|last| last.answer).filter(|answer| !answer.is_empty());
    model::DeliveryDetail { delivery: told, request, answer }
}

pub(crate) fn state_of(state: model::DeliveryState) -> DeliveryState {
    match state {
        model::DeliveryState::Waiting => DeliveryState::Waiting,
        model::DeliveryState::Delivered => DeliveryState::Delivered,
        model::DeliveryState::GivenUp => DeliveryState::GivenUp,
    }
}
