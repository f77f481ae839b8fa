"""What each page says about itself under Help: a title, and a few sentences."""

from typing import NamedTuple


class Help(NamedTuple):
    title: str
    texts: tuple[str, ...]


HELP = {
    "shoots": Help(
        "Shoots",
        (
            "A shoot is what was photographed for one job. Give a new one a name and bring its files in.",
            "The bar shows how much of it is decided: green what is kept, grey what is dropped. Archive takes a shoot off this list and leaves its files alone; Check originals reads every raw file and names those that are not as they came in.",
        ),
    ),
    "import": Help(
        "Import",
        (
            "Choose a folder on the left, then the files in the middle. They can stay where they are, or be copied; every copy is compared with its original.",
            "Frames of one camera, lens and light become sets. Watch the folder brings in what appears in it, from a camera on a cable for example.",
        ),
    ),
    "choose": Help(
        "Choose",
        (
            "One frame large, and below it those that are nearly alike: taken shortly after one another and hardly different. K keeps, D drops, O keeps this one and drops the others of its group; the arrows walk, up and down from group to group.",
            "Side by side shows a group at one zoom, each at the same place of its subject; Z looks at it at 100 %.",
            "The small words are measured, and decide nothing: how sharp a frame is against the sharpest of its group, where it is blurred by movement, eyes that are closed, skin that is clipped. H hides them.",
        ),
    ),
    "sheet": Help(
        "Sheet",
        (
            "The contact sheet, in rows by set, the lead first. Click to choose, with Shift up to here, with Ctrl one more. Keep and drop with K and D.",
            "The lead is what the set follows: develop it, and all the others change with it. Pictures can be dragged onto another set.",
            "More holds all commands for what is chosen; the full stop opens it, and writing finds one.",
        ),
    ),
    "bench": Help(
        "Bench",
        (
            "Develop one frame. On the left the groups in the order of work, in the middle the picture, on the right its set.",
            "A green ring follows the lead, a brown diamond is this frame’s own. What the lead changes, its followers change with it; give up returns a follower to its lead.",
            "Nothing needs saving, and Undo goes back through everything.",
        ),
    ),
    "lineup": Help(
        "Line-up",
        (
            "How alike the frames of a set are, measured on one area: the backdrop, a face, a grey card. The band is the tolerance; what is outside of it stands on the right, in words and numbers.",
            "Bring in moves exposure and white balance of those frames until they fit.",
        ),
    ),
    "deliver": Help(
        "Deliver",
        (
            "Choose frames, one or several output specs, and a folder. The table lists every file before anything is written, with its size and name.",
            "A click on a file name shows it as it will be written. An interrupted delivery goes on where it ended.",
        ),
    ),
    "find": Help(
        "Find",
        (
            "Frames of all shoots. Words are looked for in file names, captions, keywords, and the names of shoots and sets; the beginning of a word is enough, capitals and accents do not count.",
            "Terms ask what a frame is: keep, stars>=3, camera:heron, taken:2026-03, not delivered. Two side by side must both hold; or, not and brackets join them. Choices on the left write such terms.",
            "A kept search shows what it finds at the time. A collection holds what was put into it, in the order of your hand.",
        ),
    ),
    "kit": Help(
        "Kit",
        (
            "What is used again: presets, camera profiles, looks and papers, output specs, and the rules that choose them.",
            "Open a preset to see it on a frame of your own, at several amounts, and what it sets.",
            "Room and backups says when the catalogue was copied and how much room is used, and sets both.",
        ),
    ),
    "profile": Help(
        "A camera profile from a chart",
        (
            "Put the four corners on the chart’s corners and press Measure. The profile maps what this camera sees in this light to the chart’s measured colours.",
            "The figures are differences in CIEDE2000 over the patches, on the chart itself and with each patch left out in turn.",
        ),
    ),
}
