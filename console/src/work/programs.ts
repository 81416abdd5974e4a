/** Short programs that connect to the broker with what their language brings along: MQTT 3.1.1 on a TCP or TLS stream. */

export interface Connecting {
  host: string;
  port: number;
  /** Whether TLS protects the connection. */
  secure: boolean;
  identity: string;
  clientId: string;
  /** What it publishes to; empty if nothing. */
  topic: string;
  payload: string;
  /** What it listens to; empty if nothing. */
  filter: string;
}

export interface Program {
  name: string;
  /** As whom it is saved and how it is run. */
  file: string;
  run: string;
  text: string;
}

/** Stands where the secret belongs. */
export const SECRET = 'put-the-password-here';

/** Lines, without those that are left out. */
function lines(...all: (string | false)[]): string {
  return all.filter((line) => line !== false).join('\n') + '\n';
}

/** A text as Python, JavaScript and Java write it. */
const quoted = JSON.stringify;

/** A text as a shell takes it. */
function shell(text: string): string {
  return /^[\w./:@+-]+$/.test(text) ? text : `'${text.replaceAll("'", `'\\''`)}'`;
}

function commands(c: Connecting): Program {
  const scheme = c.secure ? 'mqtts' : 'mqtt';
  const host = c.host.includes(':') ? `[${c.host}]` : c.host;
  const remote = `${scheme}://${c.identity}@${host}:${c.port}`;
  const named = `--remote there --client-id ${shell(c.clientId)}`;
  return {
    name: 'Command line',
    file: 'connect.sh',
    run: 'sh connect.sh',
    text: lines(
      '# The password is kept in a file of your own; it is asked for, and never shown.',
      `moorfall remote set there  ${shell(remote)}${c.secure ? ' --authority authority.pem' : ''}`,
      'moorfall remote test there',
      c.topic !== '' && `moorfall publish ${shell(c.topic)} ${shell(c.payload)} ${named}`,
      c.filter !== '' && `moorfall subscribe ${shell(c.filter)} ${named}`,
    ),
  };
}

function python(c: Connecting): Program {
  return {
    name: 'Python',
    file: 'connect.py',
    run: 'python3 connect.py',
    text: lines(
      '# Python 3 with nothing but its standard library.',
      `import socket, ${c.secure ? 'ssl, ' : ''}struct`,
      '',
      `HOST, PORT = ${quoted(c.host)}, ${c.port}`,
      `CLIENT_ID, IDENTITY = ${quoted(c.clientId)}, ${quoted(c.identity)}`,
      `PASSWORD = ${quoted(SECRET)}`,
      '',
      'def text(value):',
      '    data = value.encode()',
      '    return struct.pack("!H", len(data)) + data',
      '',
      'def packet(kind, body):',
      '    length, size = len(body), b""',
      '    while length > 127:',
      '        size += bytes([length & 127 | 128])',
      '        length >>= 7',
      '    return bytes([kind]) + size + bytes([length]) + body',
      '',
      'def receive():',
      '    kind, length, shift = stream.read(1), 0, 0',
      '    if not kind:',
      '        raise SystemExit("the broker closed the connection")',
      '    while True:',
      '        digit = stream.read(1)[0]',
      '        length |= (digit & 127) << shift',
      '        shift += 7',
      '        if digit < 128:',
      '            return kind[0], stream.read(length)',
      '',
      'connection = socket.create_connection((HOST, PORT))',
      c.secure && '# The authority that has signed the certificate of the broker.',
      c.secure && 'context = ssl.create_default_context(cafile="authority.pem")',
      c.secure && 'connection = context.wrap_socket(connection, server_hostname=HOST)',
      'stream = connection.makefile("rb")',
      '# CONNECT: MQTT 3.1.1, a user name, a password, a clean session, no keep alive.',
      'connection.sendall(packet(0x10, text("MQTT") + b"\\x04\\xc2\\0\\0" + text(CLIENT_ID) + text(IDENTITY) + text(PASSWORD)))',
      'kind, answer = receive()',
      'if answer[1] != 0:',
      '    raise SystemExit(f"the broker refused the connection: return code {answer[1]}")',
      'print("connected", flush=True)',
      c.filter !== '' && `connection.sendall(packet(0x82, b"\\0\\1" + text(${quoted(c.filter)}) + b"\\1"))`,
      c.topic !== '' &&
        `connection.sendall(packet(0x32, text(${quoted(c.topic)}) + b"\\0\\2" + ${quoted(c.payload)}.encode()))`,
      'while True:',
      '    kind, body = receive()',
      '    if kind == 0x90 and body[2] == 0x80:',
      '        print("the broker refused the subscription", flush=True)',
      '    elif kind == 0x40:',
      '        print("the broker has the message", flush=True)',
      c.filter === '' && '        break',
      '    elif kind >> 4 == 3:',
      '        end, qos = 2 + int.from_bytes(body[:2], "big"), kind >> 1 & 3',
      '        if qos:',
      '            connection.sendall(packet(0x40, body[end:end + 2]))',
      '        print(body[2:end].decode(), body[end + 2 * qos:].decode(errors="replace"), flush=True)',
    ),
  };
}

function javaScript(c: Connecting): Program {
  return {
    name: 'JavaScript',
    file: 'connect.cjs',
    run: 'node connect.cjs',
    text: lines(
      '// Node.js with nothing but what it brings along.',
      c.secure ? "const tls = require('node:tls');" : "const net = require('node:net');",
      c.secure && "const fs = require('node:fs');",
      '',
      `const [host, port] = [${quoted(c.host)}, ${c.port}];`,
      `const [clientId, identity] = [${quoted(c.clientId)}, ${quoted(c.identity)}];`,
      `const password = ${quoted(SECRET)};`,
      '',
      'function text(value) {',
      '  const data = Buffer.from(value);',
      '  return Buffer.concat([Buffer.from([data.length >> 8, data.length & 255]), data]);',
      '}',
      '',
      'function packet(kind, ...parts) {',
      '  const body = Buffer.concat(parts);',
      '  const head = [kind];',
      '  let length = body.length;',
      '  for (; length > 127; length >>= 7) head.push((length & 127) | 128);',
      '  return Buffer.concat([Buffer.from([...head, length]), body]);',
      '}',
      '',
      'function handle(kind, body) {',
      '  if (kind === 0x20 && body[1] !== 0) {',
      '    console.error(`the broker refused the connection: return code ${body[1]}`);',
      '    process.exitCode = 1;',
      '  } else if (kind === 0x20) {',
      "    console.log('connected');",
      c.filter !== '' &&
        `    connection.write(packet(0x82, Buffer.from([0, 1]), text(${quoted(c.filter)}), Buffer.from([1])));`,
      c.topic !== '' &&
        `    connection.write(packet(0x32, text(${quoted(c.topic)}), Buffer.from([0, 2]), Buffer.from(${quoted(c.payload)})));`,
      '  } else if (kind === 0x90 && body[2] === 0x80) {',
      "    console.error('the broker refused the subscription');",
      '  } else if (kind === 0x40) {',
      "    console.log('the broker has the message');",
      c.filter === '' && '    connection.end();',
      '  } else if (kind >> 4 === 3) {',
      '    const [end, qos] = [2 + body.readUInt16BE(0), (kind >> 1) & 3];',
      '    if (qos) connection.write(packet(0x40, body.subarray(end, end + 2)));',
      '    console.log(body.toString("utf8", 2, end), body.toString("utf8", end + 2 * qos));',
      '  }',
      '}',
      '',
      c.secure
        ? "const connection = tls.connect({ host, port, ca: fs.readFileSync('authority.pem') }, () => {"
        : 'const connection = net.connect({ host, port }, () => {',
      '  // CONNECT: MQTT 3.1.1, a user name, a password, a clean session, no keep alive.',
      "  connection.write(packet(0x10, text('MQTT'), Buffer.from([4, 0xc2, 0, 0]), text(clientId), text(identity), text(password)));",
      '});',
      'let rest = Buffer.alloc(0);',
      "connection.on('data', (data) => {",
      '  rest = Buffer.concat([rest, data]);',
      '  for (;;) {',
      '    let [length, at] = [0, 1];',
      '    do {',
      '      if (at >= rest.length) return;',
      '      length |= (rest[at] & 127) << (7 * (at - 1));',
      '    } while (rest[at++] > 127);',
      '    if (rest.length < at + length) return;',
      '    handle(rest[0], rest.subarray(at, at + length));',
      '    rest = rest.subarray(at + length);',
      '  }',
      '});',
      "connection.on('error', (error) => console.error(error.message));",
    ),
  };
}

function java(c: Connecting): Program {
  return {
    name: 'Java',
    file: 'Connect.java',
    run: c.secure
      ? 'java -Djavax.net.ssl.trustStore=authority.p12 -Djavax.net.ssl.trustStorePassword=authority Connect.java'
      : 'java Connect.java',
    text: lines(
      '// Java 17 or newer with nothing but its own library.',
      c.secure &&
        '// First: keytool -importcert -noprompt -file authority.pem -keystore authority.p12 -storepass authority',
      'import java.io.*;',
      'import java.nio.charset.StandardCharsets;',
      '',
      'public class Connect {',
      `    static final String PASSWORD = ${quoted(SECRET)};`,
      '',
      '    interface Writing { void to(DataOutputStream out) throws IOException; }',
      '',
      '    static void text(DataOutputStream out, String value) throws IOException {',
      '        byte[] data = value.getBytes(StandardCharsets.UTF_8);',
      '        out.writeShort(data.length);',
      '        out.write(data);',
      '    }',
      '',
      '    static void send(OutputStream stream, int kind, Writing body) throws IOException {',
      '        var bytes = new ByteArrayOutputStream();',
      '        body.to(new DataOutputStream(bytes));',
      '        var head = new ByteArrayOutputStream();',
      '        head.write(kind);',
      '        int length = bytes.size();',
      '        for (; length > 127; length >>= 7) head.write(length & 127 | 128);',
      '        head.write(length);',
      '        bytes.writeTo(head);',
      '        head.writeTo(stream);',
      '    }',
      '',
      '    public static void main(String[] arguments) throws IOException {',
      c.secure
        ? `        var connection = javax.net.ssl.SSLSocketFactory.getDefault().createSocket(${quoted(c.host)}, ${c.port});`
        : `        var connection = new java.net.Socket(${quoted(c.host)}, ${c.port});`,
      '        var in = new DataInputStream(new BufferedInputStream(connection.getInputStream()));',
      '        var out = connection.getOutputStream();',
      '        // CONNECT: MQTT 3.1.1, a user name, a password, a clean session, no keep alive.',
      '        send(out, 0x10, body -> {',
      '            text(body, "MQTT");',
      '            body.write(new byte[] {4, (byte) 0xc2, 0, 0});',
      `            text(body, ${quoted(c.clientId)});`,
      `            text(body, ${quoted(c.identity)});`,
      '            text(body, PASSWORD);',
      '        });',
      '        while (true) {',
      '            int kind = in.readUnsignedByte(), length = 0, digit = 128;',
      '            for (int shift = 0; digit > 127; shift += 7) {',
      '                digit = in.readUnsignedByte();',
      '                length |= (digit & 127) << shift;',
      '            }',
      '            byte[] body = in.readNBytes(length);',
      '            if (kind == 0x20 && body[1] != 0) {',
      '                System.err.println("the broker refused the connection: return code " + body[1]);',
      '                System.exit(1);',
      '            } else if (kind == 0x20) {',
      '                System.out.println("connected");',
      c.filter !== '' &&
        `                send(out, 0x82, more -> { more.writeShort(1); text(more, ${quoted(c.filter)}); more.write(1); });`,
      c.topic !== '' &&
        `                send(out, 0x32, more -> { text(more, ${quoted(c.topic)}); more.writeShort(2); more.write(${quoted(c.payload)}.getBytes(StandardCharsets.UTF_8)); });`,
      '            } else if (kind == 0x90 && (body[2] & 255) == 0x80) {',
      '                System.err.println("the broker refused the subscription");',
      '            } else if (kind == 0x40) {',
      '                System.out.println("the broker has the message");',
      c.filter === '' && '                return;',
      '            } else if (kind >> 4 == 3) {',
      '                int end = 2 + ((body[0] & 255) << 8 | body[1] & 255), qos = kind >> 1 & 3, from = end + 2 * qos;',
      '                if (qos > 0) send(out, 0x40, more -> more.write(body, end, 2));',
      '                System.out.println(new String(body, 2, end - 2, StandardCharsets.UTF_8) + " "',
      '                    + new String(body, from, body.length - from, StandardCharsets.UTF_8));',
      '            }',
      '        }',
      '    }',
      '}',
    ),
  };
}

/** Programs that connect like this. */
export function programs(connecting: Connecting): Program[] {
  return [commands, python, javaScript, java].map((write) => write(connecting));
}
