"""Writes the held-out sets, and trains and writes the tokenizer with its chat template.

    python make_sets.py            held-out sets into ../held-out
    python make_sets.py tokenizer  also the tokenizer into ../models/pierdesk-1
"""

import json
import pathlib
import random
import re
import sys

import conversations
import ferry_world as world

DEMO = pathlib.Path(__file__).resolve().parent.parent
MODEL = DEMO / "models" / "pierdesk-1"
SPECIAL = ["<hail>", "<notice>", "<passenger>", "<desk>", "<over>"]
VOCABULARY = 2048
TEMPLATE = (
    "{{ bos_token }}"
    "{%- for message in messages -%}"
    "{%- if message['role'] == 'system' -%}<notice>{{ message['content'] }}<over>"
    "{%- elif message['role'] == 'user' -%}<passenger>{{ message['content'] }}<over>"
    "{%- elif message['role'] == 'assistant' -%}<desk>{{ message['content'] }}<over>"
    "{%- else -%}{{ raise_exception('the roles here are system, user and assistant, not ' + message['role']) }}"
    "{%- endif -%}"
    "{%- endfor -%}"
    "{%- if add_generation_prompt -%}<desk>{%- endif -%}"
)


def write_lines(path, items):
    path.write_text("".join(json.dumps(item, ensure_ascii=False) + "\n" for item in items), encoding="utf-8")
    print(f"{path.name}: {len(items)} items")


def check_wordings():
    """Stops when a held-out wording can be drawn for training too."""
    groups = list(world.QUESTIONS.values()) + world.RULES
    trained = {text for group in groups for template in group["train"] for text in alternatives(template)}
    for group in groups:
        for template in group["held_out"]:
            if trained & set(alternatives(template)):
                sys.exit(f"this held-out wording is trained on: {template}")
    print(f"{len(trained)} training wordings, none of them held out")


def alternatives(template):
    """Returns every text that a template can become."""
    choice = re.search(r"\[([^\[\]]*)\]", template)
    if not choice:
        return [" ".join(template.split())]
    before, after = template[:choice.start()], template[choice.end():]
    return [text for option in choice.group(1).split("|") for text in alternatives(before + option + after)]


def train_tokenizer():
    from tokenizers import AddedToken, Tokenizer, decoders, models, pre_tokenizers, trainers

    rng = random.Random(1)
    texts = [m["content"] for _ in range(20_000) for m in conversations.draw_conversation(rng)]
    tokenizer = Tokenizer(models.BPE())
    tokenizer.pre_tokenizer = pre_tokenizers.Sequence(
        [pre_tokenizers.Digits(individual_digits=True), pre_tokenizers.ByteLevel(add_prefix_space=False)]
    )
    tokenizer.decoder = decoders.ByteLevel()
    trainer = trainers.BpeTrainer(
        vocab_size=VOCABULARY,
        special_tokens=[AddedToken(token, special=True, normalized=False) for token in SPECIAL],
        initial_alphabet=pre_tokenizers.ByteLevel.alphabet(),
        min_frequency=2,
    )
    tokenizer.train_from_iterator(texts, trainer)
    spare = [f"<spare-{n}>" for n in range(VOCABULARY - tokenizer.get_vocab_size())]
    tokenizer.add_special_tokens([AddedToken(token, special=True, normalized=False) for token in spare])
    MODEL.mkdir(parents=True, exist_ok=True)
    tokenizer.save(str(MODEL / "tokenizer.json"))
    settings = {
        "tokenizer_class": "PreTrainedTokenizerFast",
        "bos_token": "<hail>",
        "eos_token": "<over>",
        "model_max_length": 2048,
        "clean_up_tokenization_spaces": False,
        "chat_template": TEMPLATE,
    }
    (MODEL / "tokenizer_config.json").write_text(json.dumps(settings, indent=2) + "\n", encoding="utf-8")
    print(f"tokenizer: {tokenizer.get_vocab_size()} tokens, {len(spare)} of them spare")


if __name__ == "__main__":
    check_wordings()
    write_lines(DEMO / "held-out" / "questions.jsonl", conversations.held_out_questions())
    write_lines(DEMO / "held-out" / "follow-ups.jsonl", conversations.held_out_follow_ups())
    if "tokenizer" in sys.argv[1:]:
        train_tokenizer()
