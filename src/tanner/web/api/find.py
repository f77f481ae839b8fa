"""Finding frames over all shoots: results a part at a time, counts of what there is, kept searches, collections."""

from typing import Annotated, Any

from fastapi import APIRouter, Query
from pydantic import BaseModel, ConfigDict, Field
from sqlalchemy import select
from sqlalchemy.orm import Session

from tanner.catalogue.models import Frame, Shoot
from tanner.catalogue.resolver import Resolver
from tanner.catalogue.search import kept
from tanner.catalogue.search.counts import facets
from tanner.catalogue.search.find import PAGE, SORTS, collection_of, ids_of, loaded, page
from tanner.web.api.common import WithServices
from tanner.web.api.sheet import frame_row

router = APIRouter(prefix="/api", tags=["find"])
Text = Annotated[str, Field(max_length=1000)]
Ids = Annotated[list[int], Field(min_length=1, max_length=20_000)]


class SearchName(BaseModel):
    model_config = ConfigDict(extra="forbid")
    name: str = Field(min_length=1, max_length=kept.MOST_NAME)


class KeptSearch(SearchName):
    """A search that is to be kept; see `tanner.catalogue.search` for expressions."""

    expression: Text
    sort: str = "-taken"


class SomeFrames(BaseModel):
    model_config = ConfigDict(extra="forbid")
    frames: Ids


class Order(SomeFrames):
    """Frames of a collection that go before another; None: to its end."""

    before: int | None = None


class FindWish(BaseModel):
    """Of which frames: an expression (see `tanner.catalogue.search`), of a collection or of all, archived shoots too or not."""

    q: Text = ""
    collection: int | None = None
    archived: bool = False

    def where(self, session: Session) -> dict[str, Any]:
        """As the search takes it.

        Raises:
            TannerError: the collection is no longer there.
        """
        if self.collection is not None:
            collection_of(session, self.collection)
        return {"expression": self.q, "collection": self.collection, "archived": self.archived}


class AskedInOrder(FindWish):
    sort: str = "-taken"


class AskedPage(AskedInOrder):
    offset: int = 0


class AskedOf(FindWish):
    shoot: int | None = None


@router.get("/find")
def find(services: WithServices, asked: Annotated[AskedPage, Query()]) -> dict[str, Any]:
    """Frames of all shoots that an expression takes, 120 from `offset` on, and how many there are in all where these are the last."""
    with services.catalogue.read() as session:
        offset = min(max(asked.offset, 0), 10**9)
        frames = loaded(session, page(session, sort=asked.sort, offset=offset, **asked.where(session)))
        resolvers = {s: Resolver(session, s) for s in {f.shoot_id for f in frames}}
        rows = []
        for frame in frames:
            resolver = resolvers[frame.shoot_id]
            group = resolver.sets.get(frame.set_id or 0)
            place = {"shoot": frame.shoot_id, "shootName": resolver.shoot.name, "setName": group.name if group else ""}
            rows.append({**frame_row(resolver, frame), **place})
    # How many there are in all is told with the counts: over many frames that takes longer than all the rest. Pictures that
    # are missing are made when the page asks for them, which it does only for those on the screen.
    total = offset + len(rows) if len(rows) < PAGE else None
    return {"offset": offset, "frames": rows, "total": total, "counter": services.pictures.counter}


@router.get("/find/ids")
def find_ids(services: WithServices, asked: Annotated[AskedInOrder, Query()]) -> dict[str, Any]:
    """The ids alone of all that an expression takes, in order, at most 20,000."""
    with services.catalogue.read() as session:
        return {"frames": page(session, sort=asked.sort, offset=0, most=20_000, **asked.where(session))}


@router.get("/find/facets")
def find_facets(services: WithServices, asked: Annotated[AskedOf, Query()]) -> dict[str, Any]:
    """What there is to choose from among the frames that an expression takes, of one shoot or of all, with counts."""
    with services.catalogue.read() as session:
        services.counts.bring_up(session)
        where = asked.where(session)
        # Within a shoot it does not matter whether that is archived.
        ids = ids_of(session, shoot=asked.shoot, **{**where, "archived": asked.archived or asked.shoot is not None})
    return {"facets": facets(services.counts.of(ids)), "total": ids.size}


@router.get("/find/kept")
def find_kept(services: WithServices) -> dict[str, Any]:
    """Kept searches with what they find now, collections, and the orders that there are."""
    with services.catalogue.read() as session:
        return {
            "searches": kept.standing(session),
            "collections": kept.collections(session),
            "sorts": {key: title for key, (title, _) in SORTS.items()},
        }


@router.post("/find/searches")
def keep(body: KeptSearch, services: WithServices) -> dict[str, Any]:
    """Keep a search by name, in place of one of that name."""
    with services.catalogue.write() as session:
        return {"id": kept.keep_search(session, body.name, body.expression, body.sort)}


@router.delete("/find/searches/{search}")
def forget(search: int, services: WithServices) -> dict[str, Any]:
    """Forget a kept search; frames stay as they are."""
    with services.catalogue.write() as session:
        kept.drop_search(session, search)
    return {"forgotten": search}


@router.post("/collections")
def begin(body: SearchName, services: WithServices) -> dict[str, Any]:
    """Begin a collection."""
    with services.catalogue.write() as session:
        return {"id": kept.begin_collection(session, body.name)}


@router.post("/collections/{collection}/name")
def rename(collection: int, body: SearchName, services: WithServices) -> dict[str, Any]:
    """Call a collection otherwise."""
    with services.catalogue.write() as session:
        kept.rename_collection(session, collection, body.name)
    return {"id": collection}


@router.delete("/collections/{collection}")
def drop(collection: int, services: WithServices) -> dict[str, Any]:
    """Forget a collection; its frames stay where they are."""
    with services.catalogue.write() as session:
        kept.drop_collection(session, collection)
    return {"forgotten": collection}


@router.post("/collections/{collection}/add")
def add(collection: int, body: SomeFrames, services: WithServices) -> dict[str, Any]:
    """Put frames at the end of a collection."""
    with services.catalogue.write() as session:
        return {"added": kept.gather(session, collection, body.frames)}


@router.post("/collections/{collection}/remove")
def remove(collection: int, body: SomeFrames, services: WithServices) -> dict[str, Any]:
    """Take frames out of a collection."""
    with services.catalogue.write() as session:
        kept.scatter(session, collection, body.frames)
    return {"id": collection}


@router.post("/collections/{collection}/order")
def order(collection: int, body: Order, services: WithServices) -> dict[str, Any]:
    """Order a collection by hand."""
    with services.catalogue.write() as session:
        kept.put_before(session, collection, body.frames, body.before)
    return {"id": collection}


@router.post("/find/shoots")
def shoots_of(body: SomeFrames, services: WithServices) -> dict[str, Any]:
    """The shoots that frames belong to, each with its frames, for what is done shoot by shoot."""
    found: dict[int, list[int]] = {}
    with services.catalogue.read() as session:
        for at in range(0, len(body.frames), 500):
            query = select(Frame.id, Frame.shoot_id).where(Frame.id.in_(body.frames[at : at + 500]))
            for frame, shoot in session.execute(query):
                found.setdefault(shoot, []).append(frame)
        names = {s.id: s.name for s in session.scalars(select(Shoot).where(Shoot.id.in_(found)))}
    return {"shoots": [{"shoot": i, "name": names[i], "frames": frames} for i, frames in found.items()]}
