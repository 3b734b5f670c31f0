/** A proxy that nobody here wrote, as `scripts/peers.sh` unpacks it beside what is built. */
import { spawn } from 'node:child_process';
import { connect } from 'node:net';
import { dirname, join } from 'node:path';
import { setTimeout } from 'node:timers/promises';

import { binary, freePort } from './demo';

function answers(port: number): Promise<boolean> {
  return new Promise((resolve) => {
    const socket = connect(port, '127.0.0.1', () => {
      socket.destroy();
      resolve(true);
    });
    socket.on('error', () => resolve(false));
  });
}

/** A SOCKS5 proxy for one user. */
export async function socksProxy(user: string, password: string): Promise<{ port: number; end: () => void }> {
  const port = await freePort();
  const microsocks = join(dirname(binary), '..', 'peers', 'usr', 'bin', 'microsocks');
  const proxy = spawn(microsocks, ['-i', '127.0.0.1', '-p', String(port), '-u', user, '-P', password], {
    stdio: 'ignore',
  });
  for (let tries = 0; !(await answers(port)); tries += 1) {
    if (tries > 100) throw new Error(`${microsocks} does not answer: run scripts/peers.sh`);
    await setTimeout(50);
  }
  return { port, end: () => void proxy.kill() };
}
