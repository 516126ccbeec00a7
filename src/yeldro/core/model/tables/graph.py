"""Strongly connected components of a directed graph.

A component is a set of nodes that all reach one another; components themselves form no cycle, so
they can be put in order. Found by two depth-first passes, the second against the arrows (S. R.
Kosaraju; M. Sharir, "A strong-connectivity algorithm", 1981).
"""

from __future__ import annotations

from collections.abc import Collection, Hashable, Iterable, Mapping
from typing import TypeVar

Node = TypeVar("Node", bound=Hashable)


def components(graph: Mapping[Node, Collection[Node]]) -> list[list[Node]]:
    """Return the components of `graph`, each before every component that it leads to.

    Args:
        graph: each node with the nodes it leads to; every node is a key.

    Returns:
        Lists of nodes; a node on no cycle is a list of one. The same graph gives the same lists.
    """
    place = {node: number for number, node in enumerate(graph)}
    against: dict[Node, list[Node]] = {node: [] for node in graph}
    for node, leads_to in graph.items():
        for other in leads_to:
            against[other].append(node)
    taken: set[Node] = set()
    found = [
        sorted(_finished(against, [node], taken), key=place.__getitem__)
        for node in reversed(_finished(graph, graph, set()))
        if node not in taken
    ]
    return found


def cycle_through(
    graph: Mapping[Node, Collection[Node]], component: Collection[Node]
) -> list[Node]:
    """Return one shortest cycle inside a component, its first node repeated at the end.

    Returns:
        An empty list where the component holds no cycle.
    """
    start, *_ = component
    came_from: dict[Node, Node] = {}
    waiting = [start]
    for node in waiting:
        for other in graph[node]:
            if other == start:
                path = [start, node]
                while path[-1] != start:
                    path.append(came_from[path[-1]])
                return path[::-1]
            if other in component and other not in came_from:
                came_from[other] = node
                waiting.append(other)
    return []


def _finished(
    graph: Mapping[Node, Collection[Node]], roots: Iterable[Node], seen: set[Node]
) -> list[Node]:
    """Nodes reached from `roots` and not yet `seen`, in the order in which a search leaves them."""
    left: list[Node] = []
    for root in roots:
        if root in seen:
            continue
        seen.add(root)
        path = [(root, iter(graph[root]))]
        while path:
            node, following = path[-1]
            fresh = next((other for other in following if other not in seen), None)
            if fresh is None:
                path.pop()
                left.append(node)
            else:
                seen.add(fresh)
                path.append((fresh, iter(graph[fresh])))
    return left
