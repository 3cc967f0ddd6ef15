"""Draws conversations with the passenger desk: training ones without end, and the held-out sets.

A conversation is a list of messages `{"role", "content"}` as the chat template takes them. Wordings come from
`../world/*.toml`; the ones under `held_out` are never drawn for training.
"""

import random
import re

import ferry_world as world
from ferry_world import Topic

FOLLOW_ROUTE = {
    "follow_fare": "single", "follow_child": "child", "follow_return": "return",
    "follow_duration": "duration", "follow_vessel": "vessel",
}
SYSTEM = [
    "You are the passenger desk of the Skerrywick Ferries.", "Answer briefly.", "Be kind to passengers.",
    "You help passengers of the Harrow Isles.", "Answer in English.", "You are a helpful assistant.",
]


# What people say around a question without changing it.
FRAMES = [
    "could you tell me {}", "can you tell me {}", "I would like to know {}", "do you know {}", "please tell me {}",
    "I need to know {}", "tell me, {}", "can you say {}", "quick question: {}", "my friend asks {}", "could you say {}",
    "{}, do you know", "{}, can you say", "we are on holiday, {}", "I am new here, {}", "we are two people, {}",
    "so {}", "ok, {}", "well, {}", "{} exactly", "{} by the way", "now {}", "I wonder {}",
]


def expand(template, rng):
    """Returns a template with one alternative of each `[a|b]` chosen."""
    while "[" in template:
        template = re.sub(r"\[([^\[\]]*)\]", lambda m: rng.choice(m.group(1).split("|")), template, count=1)
    return re.sub(r"\s+", " ", template).strip()


def dress(text, rng, plain=False):
    """Returns a question as somebody would type it: greeting, case and punctuation vary."""
    text = re.sub(r"\s+", " ", text).strip()
    if not plain:
        if rng.random() < 0.2:
            text = rng.choice(FRAMES).format(text)
        if rng.random() < 0.1:
            text = rng.choice(["hi, ", "hello, ", "excuse me, ", "please, ", "good morning, "]) + text
        if rng.random() < 0.08:
            text += rng.choice([" please", ", please", ", thanks", " thank you"])
    if plain or rng.random() < 0.7:
        text = text[0].upper() + text[1:]
    elif rng.random() < 0.5:
        text = text.lower()
    return text + (rng.choice(["?", "?", "?", "", ".", " ?"]) if not plain else "?")


def word(kind, topic, rng, wordings="train"):
    """Returns an undressed question of a kind about a topic."""
    text = expand(rng.choice(world.QUESTIONS[kind][wordings]), rng)
    day = rng.choice(world.DAY_PHRASES[topic.day]) if topic.day else ""
    pier = topic.pier if rng.random() < 0.95 else topic.pier.lower()
    return text.replace("{pier}", pier).replace("{vessel}", topic.vessel).replace("{day}", day)


def draw_topic(rng):
    """Returns a topic about a crossing, pier or vessel."""
    share = rng.random()
    if share < 0.55:
        day = rng.choice(world.DAYS + world.DAYS + ("",))
        return Topic(rng.choice(world.TIMED), pier=rng.choice(list(world.ROUTES)), day=day)
    if share < 0.67:
        return Topic(rng.choice(world.TIMED_ALL), day=rng.choice(world.DAYS))
    if share < 0.90:
        return Topic(rng.choice(world.ROUTE), pier=rng.choice(list(world.ROUTES)))
    return Topic(rng.choice(world.VESSEL), vessel=rng.choice(list(world.VESSELS)))


def other(choices, current, rng):
    """Returns one of the choices that is not the current one."""
    return rng.choice([choice for choice in choices if choice != current])


def draw_follow_up(topic, rng):
    """Returns the kind of a follow-up question that makes sense after a topic and the topic it asks about, or None."""
    timed, timed_all = topic.kind in world.TIMED, topic.kind in world.TIMED_ALL
    kinds = []
    if timed or timed_all:
        kinds += ["follow_day"] * 4
        if topic.kind.split("_")[0] != "first":
            kinds.append("follow_first")
        if topic.kind.split("_")[0] != "last":
            kinds.append("follow_last")
        if topic.kind.split("_")[1] == "out":
            kinds.append("follow_back")
    if topic.pier:
        kinds += ["follow_pier"] * 3
        kinds += [kind for kind, asks in FOLLOW_ROUTE.items() if asks != topic.kind]
    if not kinds:
        return None
    kind = rng.choice(kinds)
    if kind == "follow_day":
        return kind, Topic(topic.kind, topic.pier, "", other(world.DAYS, topic.day, rng))
    if kind == "follow_pier":
        return kind, Topic(topic.kind, other(list(world.ROUTES), topic.pier, rng), "", topic.day)
    if kind == "follow_back":
        return kind, Topic(topic.kind.replace("out", "back"), topic.pier, "", topic.day)
    if kind in ("follow_first", "follow_last"):
        first, rest = topic.kind.split("_", 1)
        return kind, Topic(f"{kind.removeprefix('follow_')}_{rest}", topic.pier, "", topic.day)
    return kind, Topic(FOLLOW_ROUTE[kind], topic.pier)


def exchange(question, reply):
    """Returns the two messages of one turn."""
    return [{"role": "user", "content": question}, {"role": "assistant", "content": reply}]


def draw_aside(rng):
    """Returns one turn of small talk or of an off-topic subject."""
    share = rng.random()
    if share < 0.5:
        chat = rng.choice(world.CHATTER["chat"])
        return exchange(dress(expand(rng.choice(chat["train"]), rng), rng), chat["answer"])
    if share < 0.85:
        group = rng.choice(["recipe", "club"])
        item = rng.choice(world.CHATTER[group])
        text = expand(rng.choice(world.QUESTIONS[group]["train"]), rng).replace("{name}", item["name"])
        return exchange(dress(text, rng), item["answer"])
    subject = rng.choice(world.CHATTER["subject"])
    return exchange(dress(expand(rng.choice(subject["train"]), rng), rng), subject["answer"])


def draw_turns(rng):
    """Returns one question about the line with its follow-ups, one about a rule, or an aside."""
    share = rng.random()
    if share < 0.10:
        return draw_aside(rng)
    if share < 0.36:
        rule = rng.choice(world.RULES)
        return exchange(dress(expand(rng.choice(rule["train"]), rng), rng), rule["answer"])
    topic = draw_topic(rng)
    turns = exchange(dress(word(topic.kind, topic, rng), rng), world.answer(topic)[0])
    while rng.random() < 0.45:
        follow = draw_follow_up(topic, rng)
        if follow is None:
            break
        kind, topic = follow
        turns += exchange(dress(word(kind, topic, rng), rng), world.answer(topic)[0])
    return turns


def draw_conversation(rng, more=0.2):
    """Returns a conversation; with probability `more` each time, another subject follows."""
    messages = [{"role": "system", "content": rng.choice(SYSTEM)}] if rng.random() < 0.12 else []
    messages += draw_turns(rng)
    while rng.random() < more:
        messages += draw_turns(rng)
    return messages


def held_out_questions():
    """Returns the graded single questions: every held-out wording, with topics drawn from a fixed seed."""
    rng = random.Random(2024)
    items = []
    for rule in world.RULES:
        for template in rule["held_out"]:
            items.append(graded(f"rule/{rule['id']}", exchange(dress(template, rng, True), rule["answer"]), rule["facts"]))
    for kind in world.TIMED + world.TIMED_ALL + world.ROUTE + world.VESSEL:
        repeats = 4 if kind in world.TIMED else 2
        for template in world.QUESTIONS[kind]["held_out"]:
            for _ in range(repeats):
                topic = Topic(
                    kind,
                    pier=rng.choice(list(world.ROUTES)) if "{pier}" in template else "",
                    vessel=rng.choice(list(world.VESSELS)) if "{vessel}" in template else "",
                    day=rng.choice(world.DAYS) if "{day}" in template else "",
                )
                day = rng.choice(world.DAY_PHRASES[topic.day]) if topic.day else ""
                text = template.replace("{pier}", topic.pier).replace("{vessel}", topic.vessel).replace("{day}", day)
                reply, facts = world.answer(topic)
                items.append(graded(kind, exchange(dress(text, rng, True), reply), facts))
    return items


def held_out_follow_ups():
    """Returns the graded two-turn conversations: the second question is a held-out wording."""
    rng = random.Random(2025)
    items = []
    wanted = [kind for kind in world.QUESTIONS if kind.startswith("follow_")]
    for kind in wanted:
        for template in world.QUESTIONS[kind]["held_out"]:
            for _ in range(6 if kind in ("follow_day", "follow_pier") else 3):
                while True:
                    first = draw_topic(rng)
                    follow = draw_follow_up(first, rng)
                    if follow and follow[0] == kind:
                        break
                second = follow[1]
                opening = exchange(dress(word(first.kind, first, rng), rng, True), world.answer(first)[0])
                day = rng.choice(world.DAY_PHRASES[second.day]) if second.day else ""
                text = template.replace("{pier}", second.pier).replace("{day}", day)
                reply, facts = world.answer(second)
                items.append(graded(kind, opening + exchange(dress(text, rng, True), reply), facts))
    return items


def graded(kind, messages, facts):
    """Returns a held-out item: what is asked, the canonical answer, and the facts that must be in a good one."""
    return {"kind": kind, "messages": messages[:-1], "answer": messages[-1]["content"], "facts": facts}
