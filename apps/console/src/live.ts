import { useCallback, useEffect, useState, useSyncExternalStore } from 'react';
import type { Alarm, Facts, Refusal, Value } from './types';

/** What is known of a variable's value at present. */
export interface Sample {
  value: Value;
  text: string | null; // its words, where these say more
  status: string | null; // null for Good
  time: number | null; // ms since 1970, of the source
  arrived: number;
  facts: Facts | null;
  error: Refusal | null;
  changes: number;
  lit: number; // changes after a while without one: who changes all the time needs no light
}

export interface Point {
  t: number;
  v: number | null;
}

interface Watched {
  key: number;
  node: string;
  sample: Sample | null;
  facts: Facts | null;
  trail: Point[]; // the newest last
  listeners: Set<() => void>;
  changes: number;
  lit: number;
  dropAt: ReturnType<typeof setTimeout> | null;
}

const kTrail = 240;
const kQuiet = 800; // ms without a change, after which the next one lights up
const kLinger = 3_000; // ms for which a value is still watched that nobody looks at

type State = 'connecting' | 'open' | 'lost';

/** One connection for all that this page watches. It comes back by itself, with everything that was watched. */
class Live {
  private socket: WebSocket | null = null;
  private watched = new Map<string, Watched>();
  private byKey = new Map<number, Watched>();
  private lastKey = 0;
  private toWatch = new Set<Watched>();
  private toDrop: number[] = [];
  private isScheduled = false;
  private changed = new Set<Watched>();
  private isPainting = false;
  private pause = 500;
  private state: State = 'connecting';
  private stateListeners = new Set<() => void>();
  private alarmListeners = new Set<() => void>();
  private alarmList: Alarm[] | null = null;
  private wantsAlarms = false;
  private isWanted = false;

  start() {
    if (this.isWanted) return;
    this.isWanted = true;
    this.connect();
  }

  stop() {
    this.isWanted = false;
    this.socket?.close();
    this.socket = null;
  }

  /** Begins anew, as when somebody else has logged in. */
  restart() {
    this.alarmList = null;
    for (const one of this.watched.values()) one.sample = null;
    this.socket?.close();
    if (!this.isWanted) this.start();
  }

  watch(node: string, listener: () => void): () => void {
    let one = this.watched.get(node);
    if (!one) {
      one = { key: ++this.lastKey, node, sample: null, facts: null, trail: [], listeners: new Set(), changes: 0, lit: 0, dropAt: null };
      this.watched.set(node, one);
      this.byKey.set(one.key, one);
      this.toWatch.add(one);
      this.schedule();
    }
    const entry = one;
    if (entry.dropAt) clearTimeout(entry.dropAt);
    entry.dropAt = null;
    entry.listeners.add(listener);
    return () => {
      entry.listeners.delete(listener);
      if (entry.listeners.size === 0) entry.dropAt = setTimeout(() => this.drop(entry), kLinger);
    };
  }

  sampleOf(node: string): Sample | null {
    return this.watched.get(node)?.sample ?? null;
  }

  trailOf(node: string): Point[] {
    return this.watched.get(node)?.trail ?? [];
  }

  watchAlarms(listener: () => void): () => void {
    this.alarmListeners.add(listener);
    if (!this.wantsAlarms) {
      this.wantsAlarms = true;
      this.send({ alarms: true });
    }
    return () => this.alarmListeners.delete(listener);
  }
  alarms = () => this.alarmList;

  watchState(listener: () => void): () => void {
    this.stateListeners.add(listener);
    return () => this.stateListeners.delete(listener);
  }
  stateNow = () => this.state;

  private drop(one: Watched) {
    this.watched.delete(one.node);
    this.byKey.delete(one.key);
    if (!this.toWatch.delete(one)) {
      this.toDrop.push(one.key);
      this.schedule();
    }
  }

  /** What is asked for in one turn goes in one message. */
  private schedule() {
    if (this.isScheduled) return;
    this.isScheduled = true;
    setTimeout(() => {
      this.isScheduled = false;
      if (this.socket?.readyState !== WebSocket.OPEN) return;
      if (this.toDrop.length) this.send({ drop: this.toDrop.splice(0) });
      const wanted = [...this.toWatch];
      this.toWatch.clear();
      for (let at = 0; at < wanted.length; at += 500)
        this.send({ watch: wanted.slice(at, at + 500).map(({ key, node }) => ({ key, node, every: 100 })) });
    }, 20);
  }

  private send(message: object) {
    if (this.socket?.readyState === WebSocket.OPEN) this.socket.send(JSON.stringify(message));
  }

  private setState(state: State) {
    if (this.state === state) return;
    this.state = state;
    for (const listener of this.stateListeners) listener();
  }

  private connect() {
    const scheme = location.protocol === 'https:' ? 'wss' : 'ws';
    const socket = new WebSocket(`${scheme}://${location.host}/api/live`);
    this.socket = socket;
    socket.onopen = () => {
      this.pause = 500;
      this.setState('open');
      this.toDrop = [];
      for (const one of this.watched.values()) this.toWatch.add(one);
      this.schedule();
      if (this.wantsAlarms) this.send({ alarms: true });
    };
    socket.onmessage = (event) => this.heard(JSON.parse(String(event.data)));
    socket.onclose = () => {
      if (this.socket !== socket || !this.isWanted) return;
      this.setState('lost');
      setTimeout(() => this.isWanted && this.connect(), this.pause);
      this.pause = Math.min(this.pause * 2, 5_000);
    };
  }

  private heard(message: {
    values?: [number, Value, string | null, string | null, number | null][];
    watching?: { key: number; facts?: Facts; error?: Refusal }[];
    alarms?: Alarm[];
    alarm?: Alarm;
    isGone?: boolean;
  }) {
    const now = Date.now();
    for (const told of message.watching ?? []) {
      const one = this.byKey.get(told.key);
      if (!one) continue;
      if (told.facts) one.facts = told.facts;
      const before = one.sample;
      one.sample = {
        value: before?.value ?? null,
        text: before?.text ?? null,
        status: before?.status ?? null,
        time: before?.time ?? null,
        arrived: before?.arrived ?? 0,
        changes: one.changes,
        lit: one.lit,
        facts: one.facts,
        error: told.error ?? null,
      };
      this.changed.add(one);
    }
    for (const [key, value, text, status, time] of message.values ?? []) {
      const one = this.byKey.get(key);
      if (!one) continue;
      one.changes += 1;
      if (now - (one.sample?.arrived ?? 0) > kQuiet) one.lit += 1;
      one.sample = { value, text, status, time, arrived: now, facts: one.facts, error: null, changes: one.changes, lit: one.lit };
      const number = typeof value === 'number' ? value : typeof value === 'boolean' ? Number(value) : null;
      one.trail.push({ t: time ?? now, v: status?.startsWith('Bad') ? null : number });
      if (one.trail.length > kTrail) one.trail.splice(0, one.trail.length - kTrail);
      this.changed.add(one);
    }
    if (message.alarms) this.tellAlarms(message.alarms);
    if (message.alarm) {
      const { alarm, isGone } = message;
      const others = (this.alarmList ?? []).filter((one) => one.id !== alarm.id || one.branch !== alarm.branch);
      this.tellAlarms(isGone ? others : [...others, alarm]);
    }
    this.paint();
  }

  private tellAlarms(alarms: Alarm[]) {
    this.alarmList = [...alarms].sort((a, b) => b.severity - a.severity || (b.since ?? '').localeCompare(a.since ?? ''));
    for (const listener of this.alarmListeners) listener();
  }

  /** However much comes, it is shown once a frame. */
  private paint() {
    if (this.isPainting || this.changed.size === 0) return;
    this.isPainting = true;
    requestAnimationFrame(() => {
      this.isPainting = false;
      const changed = [...this.changed];
      this.changed.clear();
      for (const one of changed) for (const listener of one.listeners) listener();
    });
  }
}

export const live = new Live();

const nothing = () => () => {};

/** The value of a node as it is now; null until it is known, or for no node. */
export function useLive(node: string | null | undefined): Sample | null {
  const subscribe = useCallback((listener: () => void) => (node ? live.watch(node, listener) : nothing()), [node]);
  return useSyncExternalStore(subscribe, () => (node ? live.sampleOf(node) : null));
}

/** A part of what is known of a node: what shows it is drawn anew when that part is another, however often its value is. */
export function useLivePart<Part extends string | number | boolean | null | undefined>(node: string, part: (sample: Sample | null) => Part): Part {
  const subscribe = useCallback((listener: () => void) => live.watch(node, listener), [node]);
  return useSyncExternalStore(subscribe, () => part(live.sampleOf(node)));
}

/** Has what is drawn of a node drawn anew when its value has changed, once a second at most. */
export function useLiveSlowly(node: string) {
  const [, setRound] = useState(0);
  useEffect(() => {
    let timer: ReturnType<typeof setTimeout> | null = null;
    const stop = live.watch(node, () => {
      timer ??= setTimeout(() => {
        timer = null;
        setRound((before) => before + 1);
      }, 1_000);
    });
    return () => {
      stop();
      if (timer) clearTimeout(timer);
    };
  }, [node]);
}

const watchAlarms = (listener: () => void) => live.watchAlarms(listener);
export const useAlarms = () => useSyncExternalStore(watchAlarms, live.alarms);

const watchState = (listener: () => void) => live.watchState(listener);
export const useLiveState = () => useSyncExternalStore(watchState, live.stateNow);
