/** Words and places of bridges. */
import dagre from '@dagrejs/dagre';

import type { BridgeMappingView, BridgeView } from '$api/client';
import { rate, span } from '$lib/format';

/** A mark beside the word, so that a link's state is not told by colour alone. */
export const MARKS: Record<BridgeView['phase'], string> = {
  up: '●',
  connecting: '◌',
  down: '✕',
  paused: '‖',
  draining: '◐',
};

/** When a link that is down is tried next, in words; empty if at once, or if it is not down. */
function nextOf(bridge: BridgeView, now: number): string {
  const next = bridge.next_attempt_at ? Date.parse(bridge.next_attempt_at) - now : 0;
  return bridge.phase === 'down' && next > 1_000 ? `, next attempt in ${span(next / 1_000)}` : '';
}

/** The state in words. */
export function stateOf(bridge: BridgeView, now: number): string {
  return `${bridge.phase}${nextOf(bridge, now)}`;
}

/** The state in words, with how long it has lasted. */
export function standingOf(bridge: BridgeView, now: number): string {
  return `${bridge.phase} for ${span((now - Date.parse(bridge.since)) / 1_000)}${nextOf(bridge, now)}`;
}

/** What a mapping does to names, in a line. */
export function namesOf(mapping: BridgeMappingView): string {
  return mapping.new_name ? `${mapping.filter} as ${mapping.new_name}` : mapping.filter;
}

/** What passes by a mapping: its rate, or that nothing does. */
export function flowOf(mapping: BridgeMappingView): string {
  return mapping.flow.rate > 0 ? `${rate(mapping.flow.rate)}/s` : 'nothing now';
}

export interface Box {
  key: string;
  x: number;
  y: number;
  width: number;
  height: number;
}

export interface RemoteBox extends Box {
  bridge: BridgeView;
}

export interface MappingBox extends Box {
  bridge: BridgeView;
  mapping: BridgeMappingView;
}

export interface Arrow {
  key: string;
  bridge: BridgeView;
  path: string;
}

export interface BridgeMap {
  width: number;
  height: number;
  here: Box;
  remotes: RemoteBox[];
  mappings: MappingBox[];
  arrows: Arrow[];
}

const HERE = { width: 170, height: 64 };
const REMOTE = { width: 210, height: 64 };
const MAPPING = { width: 300, height: 44 };

/** Where everything stands: this broker at the left, the remotes at the right, and the mappings between them. */
export function layOut(bridges: BridgeView[]): BridgeMap {
  const graph = new dagre.graphlib.Graph();
  graph.setGraph({ rankdir: 'LR', nodesep: 12, ranksep: 70, marginx: 8, marginy: 8 });
  graph.setDefaultEdgeLabel(() => ({}));
  graph.setNode('here', { ...HERE });
  const keyOf = (bridge: BridgeView, place: number) => `${bridge.name}/${place}`;
  for (const bridge of bridges) {
    graph.setNode(bridge.name, { ...REMOTE });
    bridge.mappings.forEach((_, place) => {
      const key = keyOf(bridge, place);
      graph.setNode(key, { ...MAPPING });
      graph.setEdge('here', key);
      graph.setEdge(key, bridge.name);
    });
  }
  dagre.layout(graph);
  const box = (key: string): Box => {
    const { x, y, width, height } = graph.node(key) as unknown as Box;
    return { key, x: x - width / 2, y: y - height / 2, width, height };
  };
  const here = box('here');
  const remotes = bridges.map((bridge) => ({ ...box(bridge.name), bridge }));
  const mappings = bridges.flatMap((bridge) =>
    bridge.mappings.map((mapping, place) => ({ ...box(keyOf(bridge, place)), bridge, mapping })),
  );
  const arrows = mappings.flatMap(({ key, bridge, mapping, ...place }) => {
    const remote = box(bridge.name);
    const left = curve(here.x + here.width, middle(here), place.x, middle(place));
    const right = curve(place.x + place.width, middle(place), remote.x, middle(remote));
    const ways = mapping.direction === 'push' ? [left, right] : [turned(right), turned(left)];
    return ways.map((way, number) => ({ key: `${key}/${number}`, bridge, path: pathOf(way) }));
  });
  const { width = 0, height = 0 } = graph.graph();
  return { width, height, here, remotes, mappings, arrows };
}

type Curve = [number, number, number, number];

function middle({ y, height }: { y: number; height: number }): number {
  return y + height / 2;
}

function curve(x1: number, y1: number, x2: number, y2: number): Curve {
  return [x1, y1, x2, y2];
}

/** The same line from its other end. */
function turned([x1, y1, x2, y2]: Curve): Curve {
  return [x2, y2, x1, y1];
}

function pathOf([x1, y1, x2, y2]: Curve): string {
  const half = (x1 + x2) / 2;
  return `M ${x1} ${y1} C ${half} ${y1}, ${half} ${y2}, ${x2} ${y2}`;
}
