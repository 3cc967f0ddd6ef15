"""The Skerrywick Ferries as data, and the canonical answer to every question about them.

Reads `../world/*.toml`. Nothing here is random: an answer is a function of a `Topic`.
"""

import dataclasses
import pathlib
import tomllib

WORLD = pathlib.Path(__file__).resolve().parent.parent / "world"

DAYS = ("weekday", "saturday", "sunday")
DAY_LABEL = {"weekday": "weekdays", "saturday": "Saturdays", "sunday": "Sundays"}
DAY_PHRASES = {
    "weekday": [
        "on weekdays", "on a weekday", "during the week", "on Monday", "on a Tuesday", "on Wednesday",
        "on Thursdays", "on Friday", "on Mondays", "on a Friday", "on Tuesday", "on Thursday",
    ],
    "saturday": ["on Saturday", "on Saturdays", "on a Saturday"],
    "sunday": ["on Sunday", "on Sundays", "on a Sunday"],
}
TIMED = ("last_out", "last_back", "first_out", "first_back", "times_out", "times_back")
TIMED_ALL = ("last_out_all", "last_back_all", "first_out_all", "first_back_all")
ROUTE = (
    "duration", "distance", "single", "child", "return", "vessel", "location", "facilities", "parking",
    "access", "sight", "isle",
)
VESSEL = ("v_built", "v_passengers", "v_cars", "v_captain", "v_food", "v_speed")


def load(name):
    """Returns one file of the world as a dictionary."""
    return tomllib.loads((WORLD / f"{name}.toml").read_text(encoding="utf-8"))


ROUTES = {route["pier"]: route for route in load("routes")["route"]}
VESSELS = {vessel["name"]: vessel for vessel in load("vessels")["vessel"]}
RULES = load("rules")["rule"]
CHATTER = load("chatter")
QUESTIONS = load("questions")


@dataclasses.dataclass(frozen=True)
class Topic:
    """What a question is about: its kind, and the pier, vessel or day it names ("" for none)."""

    kind: str
    pier: str = ""
    vessel: str = ""
    day: str = ""


def join(words):
    """Returns the words as an English enumeration."""
    return words[0] if len(words) == 1 else ", ".join(words[:-1]) + " and " + words[-1]


def answer(topic):
    """Returns the canonical answer to a topic and the facts that any good answer holds."""
    if topic.kind in TIMED:
        return timed_answer(topic)
    if topic.kind in TIMED_ALL:
        return timed_all_answer(topic)
    if topic.kind in ROUTE:
        return route_answer(topic)
    return vessel_answer(topic)


def timed_answer(topic):
    which, way = topic.kind.split("_")
    days = [topic.day] if topic.day else list(DAYS)
    times = {day: ROUTES[topic.pier][day][way] for day in days}
    if which == "times":
        facts = [time for day in days for time in times[day]]
        boats = f"boats leave Skerrywick for {topic.pier}" if way == "out" else f"boats leave {topic.pier} for Skerrywick"
        return " ".join(f"On {DAY_LABEL[day]} {boats} at {join(times[day])}." for day in days), facts
    pick = 0 if which == "first" else -1
    facts = [times[day][pick] for day in days]
    start = (
        f"The {which} boat to {topic.pier} leaves Skerrywick at "
        if way == "out"
        else f"The {which} boat back to Skerrywick leaves {topic.pier} at "
    )
    return start + join([f"{times[day][pick]} on {DAY_LABEL[day]}" for day in days]) + ".", facts


def timed_all_answer(topic):
    which, way, _ = topic.kind.split("_")
    day = topic.day or "weekday"
    pick = 0 if which == "first" else -1
    times = {pier: route[day][way][pick] for pier, route in ROUTES.items()}
    facts = list(times.values())
    if way == "out":
        listed = join([f"at {time} to {pier}" for pier, time in times.items()])
        return f"On {DAY_LABEL[day]} the {which} boats leave Skerrywick {listed}.", facts
    listed = join([f"{pier} at {time}" for pier, time in times.items()])
    return f"On {DAY_LABEL[day]} the {which} boats back to Skerrywick leave {listed}.", facts


def route_answer(topic):
    route, pier = ROUTES[topic.pier], topic.pier
    texts = {
        "duration": (f"The crossing from Skerrywick to {pier} takes {route['minutes']} minutes.", [f"{route['minutes']} minutes"]),
        "distance": (f"{pier} is {route['miles']} miles from Skerrywick.", [f"{route['miles']} miles"]),
        "single": (f"A single ticket to {pier} costs {route['single']} for an adult.", [route["single"]]),
        "child": (f"A child ticket to {pier} costs {route['child']}. Children under 5 travel free.", [route["child"]]),
        "return": (f"A return ticket to {pier} costs {route['return']} for an adult.", [route["return"]]),
        "vessel": (f"The {route['vessel']} sails to {pier}.", [route["vessel"]]),
        "location": (f"The pier of {pier} is {route['location']}.", [route["location"]]),
        "facilities": (f"At {pier} there is {route['facilities']}.", [route["facilities"]]),
        "parking": (f"At {pier} there is parking for {route['parking']}.", [route["parking"].split(",")[0]]),
        "access": (f"The pier of {pier} is {route['access']}.", [route["access"].split(",")[0]]),
        "sight": (f"Most visitors to {pier} come to see {route['sight']}.", [route["sight"]]),
        "isle": (f"{pier} is on the isle of {route['isle']}.", [f"isle of {route['isle']}"]),
    }
    return texts[topic.kind]


def vessel_answer(topic):
    vessel, name = VESSELS[topic.vessel], topic.vessel
    texts = {
        "v_built": (f"The {name} was built in {vessel['built']}.", "built"),
        "v_passengers": (f"The {name} carries {vessel['passengers']}.", "passengers"),
        "v_cars": (f"The {name} takes {vessel['cars']}.", "cars"),
        "v_captain": (f"The {name} is commanded by {vessel['captain']}.", "captain"),
        "v_food": (f"On board the {name} there is {vessel['food']}.", "food"),
        "v_speed": (f"The {name} makes {vessel['speed']}.", "speed"),
    }
    text, fact = texts[topic.kind]
    return text, [vessel[fact]]
