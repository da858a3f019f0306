import { createHash, createHmac } from 'node:crypto';

/**
 * The header fields that sign a POST by HMAC-SHA-256: Content-Digest (RFC 9530) and HTTP Message Signatures (RFC 9421 §3.3.3).
 * `created` is in seconds.
 */
export function signedHeaders(request: {
  url: string;
  body: string;
  keyId: string;
  secret: Buffer;
  created: number;
}): Record<string, string> {
  const digest = `sha-256=:${createHash('sha256').update(request.body).digest('base64')}:`;
  const parameters = `("@method" "@target-uri" "content-digest" "content-type");created=${request.created};keyid="${request.keyId}";alg="hmac-sha256"`;
  const base = [
    '"@method": POST',
    `"@target-uri": ${request.url}`,
    `"content-digest": ${digest}`,
    '"content-type": application/json',
    `"@signature-params": ${parameters}`,
  ].join('\n');
  return {
    'content-type': 'application/json',
    'content-digest': digest,
    'signature-input': `tenedor=${parameters}`,
    signature: `tenedor=:${createHmac('sha256', request.secret).update(base).digest('base64')}:`,
  };
}
