"""What lies over something else on the map, measured on the rendered page."""

from playwright.sync_api import Page

_MEASURED = """() => {
  const svg = document.querySelector('svg[aria-label="Devices and placed lists"]');
  const seen = (element) => {
    const { x, y, width, height } = element.getBoundingClientRect();
    return { x, y, width, height };
  };
  const near = svg.querySelector('[data-tab]') !== null;
  const things = [];
  for (const plate of svg.querySelectorAll('[data-plate]')) {
    const name = plate.dataset.plate;
    things.push({ what: name, of: name, ...seen(plate) });
    // At its ordinary size a plate holds its words; from further away a name may be wider.
    for (const text of plate.parentElement.querySelectorAll(':scope > g > text')) {
      if (text.closest('[data-tab], [data-tag]')) continue;
      things.push({ what: `"${text.textContent}"`, of: name, word: true, ...seen(text) });
    }
  }
  for (const tab of svg.querySelectorAll('[data-tab] > rect')) {
    const end = tab.parentElement.dataset.tab;
    things.push({ what: `tab ${end}`, of: `tab ${end}`, ...seen(tab) });
  }
  for (const tag of svg.querySelectorAll('[data-tag][aria-label] > rect')) {
    const key = tag.parentElement.dataset.tag;
    things.push({ what: `tag ${key}`, of: `tag ${key}`, ...seen(tag) });
  }
  for (const word of svg.querySelectorAll('[data-word]')) {
    things.push({ what: `"${word.textContent}"`, of: word.textContent, word: true, ...seen(word) });
  }
  const lanes = [...svg.querySelectorAll('[data-link] > path')].map((path) => {
    const length = path.getTotalLength();
    const matrix = path.getScreenCTM();
    const points = [];
    for (let at = 0; at <= length; at += 2) points.push(path.getPointAtLength(at).matrixTransform(matrix));
    return { ends: path.parentElement.dataset.link.split(' '),
             points: points.map(({ x, y }) => ({ x, y })) };
  });
  const cut = [];
  for (const rect of svg.querySelectorAll('[data-tab], [data-tag][aria-label]')) {
    const box = rect.querySelector('rect')?.getBoundingClientRect();
    for (const text of rect.querySelectorAll('text')) {
      const words = text.getBoundingClientRect();
      if (box && (words.left < box.left - 1 || words.right > box.right + 1)) cut.push(text.textContent);
    }
  }
  const scale = svg.querySelector('g').getCTM().a;
  return { near, things, lanes, cut, scale };
}"""


def overlaps(page: Page) -> list[str]:
    """In words: each two things of the map that overlap, each lane that runs over one, each word cut off."""
    found = page.evaluate(_MEASURED)
    wrong = [f"{words} is wider than its box" for words in found["cut"]]
    things = found["things"]
    for place, one in enumerate(things):
        for other in things[place + 1 :]:
            if one["of"] != other["of"] and _overlap(one, other):
                wrong.append(f"{one['what']} and {other['what']}")
    for lane in found["lanes"]:
        devices = {end.partition(":")[0] for end in lane["ends"]}
        own = devices | {f"tab {end}" for end in lane["ends"]}
        for thing in things:
            name = thing["of"]
            at_end = name in own or (
                name.startswith("tag ") and any(_hangs(name, end) for end in lane["ends"])
            )
            if not at_end and any(_holds(thing, point) for point in lane["points"]):
                wrong.append(f"the link {' - '.join(lane['ends'])} runs over {thing['what']}")
    return wrong


def _hangs(tag: str, end: str) -> bool:
    """tag: `tag LIST DEVICE:INTERFACE:DIRECTION`; a subinterface's lies at the one that carries it"""
    at = tag.split()[2].rpartition(":")[0]
    return at == end or at.startswith(f"{end}.") or at.partition(":")[0] == end.partition(":")[0]


Box = dict[str, float]


def _overlap(one: Box, other: Box, least: float = 1.0) -> bool:
    """Whether two boxes share more than a line."""
    return (
        min(one["x"] + one["width"], other["x"] + other["width"]) - max(one["x"], other["x"]) > least
        and min(one["y"] + one["height"], other["y"] + other["height"]) - max(one["y"], other["y"]) > least
    )


def _holds(box: Box, point: Box) -> bool:
    return (
        box["x"] + 1 < point["x"] < box["x"] + box["width"] - 1
        and box["y"] + 1 < point["y"] < box["y"] + box["height"] - 1
    )
