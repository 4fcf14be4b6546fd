<script lang="ts">
  import { api, ok, type Schemas } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import CodeField from '../../lib/CodeField.svelte'
  import CopyLine from '../../lib/CopyLine.svelte'
  import Field from '../../lib/Field.svelte'
  import { here, make } from '../../lib/passkeys'
  import PasswordField from '../../lib/PasswordField.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { session, take } from '../../lib/session.svelte'
  import When from '../../lib/When.svelte'
  import RecoveryCodes from './RecoveryCodes.svelte'

  type Act = 'device' | 'passkey' | 'recovery' | 'drop' | `drop-${number}`
  const who = $derived(session.who!)
  let doing = $state<Act | ''>('')
  let begun = $state<Schemas['FactorOut'] | null>(null)
  let form = $state({ code: '', password: '', name: '' })
  let codes = $state<string[]>([])
  const acts = acting('me')
  const errors = $derived(acts.errors)

  function open(act: Act | ''): void {
    doing = act
    acts.problem = null
    begun = null
    form = { code: '', password: '', name: '' }
  }
  function took(found: Schemas['SessionOut']): void {
    take(found)
    if (found.recovery_codes?.length) codes = found.recovery_codes
  }
  const proof = () => ({ code: form.code, password: form.password })
  async function act(): Promise<void> {
    if (doing === 'device') {
      begun = await ok(api.POST('/api/session/second-factors', { body: proof() }))
      form = { code: '', password: '', name: '' }
      return
    }
    if (doing === 'passkey') {
      const { options } = await ok(api.POST('/api/session/passkeys/options', { body: proof() }))
      const credential = await make(options)
      took(await ok(api.POST('/api/session/passkeys', { body: { credential, name: form.name } })))
    } else if (doing === 'recovery')
      took(await ok(api.POST('/api/session/recovery-codes', { body: { code: form.code } })))
    else if (doing === 'drop')
      took(
        await ok(api.POST('/api/session/second-factors/removals', { body: { code: form.code } })),
      )
    else {
      const params = { path: { identity: Number(doing.replace('drop-', '')) } }
      took(
        await ok(
          api.POST('/api/session/passkeys/{identity}/removals', {
            params,
            body: { code: form.code },
          }),
        ),
      )
    }
    open('')
  }
  async function run(event: Event, call: () => Promise<void>): Promise<void> {
    event.preventDefault()
    await acts.run(call)
    if (acts.problem) form.code = ''
  }
  const confirm = async () => {
    took(
      await ok(
        api.POST('/api/session/second-factors/confirmations', { body: { code: form.code } }),
      ),
    )
    open('')
  }
  const WORDS: Record<string, string> = {
    device: 'Set up one-time codes',
    passkey: 'Add the passkey',
    recovery: 'Make new recovery codes',
  }
</script>

{#snippet ask()}
  <form
    class="bg-quiet-ground my-2 max-w-md rounded-md px-4 py-3"
    onsubmit={(event) => run(event, act)}
  >
    {#if doing === 'passkey'}<Field
        id="passkey-name"
        label="What you call it"
        help="So that you can tell yours apart."
        ><input
          id="passkey-name"
          class="line-in"
          maxlength="60"
          placeholder="Harbour laptop"
          bind:value={form.name}
          required
        /></Field
      >{/if}
    {#if who.second_factor}
      <CodeField id="factor-proof" error={errors.code} bind:value={form.code} />
    {:else}
      <PasswordField
        id="factor-password"
        label="Your password"
        error={errors.password}
        bind:value={form.password}
        current
      />
    {/if}
    <button
      class="btn btn-sm {doing.startsWith('drop') ? 'btn-error' : 'btn-primary'}"
      disabled={acts.busy}>{WORDS[doing] ?? 'Remove'}</button
    >
    <button type="button" class="btn btn-sm" onclick={() => open('')}>Cancel</button>
    {#if !errors.code && !errors.password}<ProblemBox problem={acts.problem} />{/if}
  </form>
{/snippet}

<section class="sheet p-4" aria-labelledby="factor">
  <h2 id="factor" class="mb-1">Second factor</h2>
  <p class="mb-2">
    {#if who.second_factor}You are asked for it when you log in, when you have a stored secret shown
      again, and before one goes to another server.{:else}None. With one, your password alone gives
      no access, and a stored secret is only shown or sent elsewhere with it.{/if}
  </p>
  <h3 class="font-bold">One-time codes of a device</h3>
  {#if begun}
    <ol class="mb-3 list-decimal space-y-2 ps-5">
      <li>
        Give your device this secret. It is shown this once.<br />
        <CopyLine text={begun.secret} what="the secret of the second factor" />
        <p class="help mt-1">Or as an address: <span class="value">{begun.address}</span></p>
      </li>
      <li>Type the six digits that it shows now.</li>
    </ol>
    <form onsubmit={(event) => run(event, confirm)} class="max-w-xs">
      <Field id="factor-code" label="Code" error={errors.code}
        ><input
          id="factor-code"
          class="line-in value"
          inputmode="numeric"
          autocomplete="one-time-code"
          bind:value={form.code}
          required
        /></Field
      >
      <button class="btn btn-primary btn-sm" disabled={acts.busy}>Confirm device</button>
      <button type="button" class="btn btn-sm" onclick={() => open('')}>Cancel</button>
      {#if !errors.code}<ProblemBox problem={acts.problem} />{/if}
    </form>
  {:else}
    <p>
      {#if who.device}Set up.
        <button class="act ms-2" onclick={() => open('device')}
          >Set up another device in its place</button
        >
        <button class="act ms-2" onclick={() => open('drop')}>Remove second factor</button>
      {:else}Any program for one-time codes will do (RFC 6238).
        <button class="act ms-2" onclick={() => open('device')}>Set them up</button>{/if}
    </p>
    {#if doing === 'device' || doing === 'drop'}{@render ask()}{/if}
  {/if}
  <h3 class="mt-3 font-bold">Passkeys</h3>
  {#each who.passkeys ?? [] as passkey (passkey.id)}
    <p class="flex flex-wrap items-baseline gap-x-3">
      <span>{passkey.name}</span><span class="text-soft"
        ><When at={passkey.added} prefix="added " />{#if passkey.last_used}, <When
            at={passkey.last_used}
            prefix="last used "
          />{/if}</span
      ><button
        class="act"
        aria-label="Do without {passkey.name}"
        onclick={() => open(`drop-${passkey.id}`)}>Remove passkey</button
      >
    </p>
    {#if doing === `drop-${passkey.id}`}{@render ask()}{/if}
  {/each}
  {#if here()}
    <p><button class="act" onclick={() => open('passkey')}>Add a passkey</button></p>
    {#if doing === 'passkey'}{@render ask()}{/if}
  {:else if session.passkeysAt}
    <p class="help">
      They work at <span class="value">{session.passkeysAt}</span>. You opened this page at
      <span class="value">{location.hostname}</span>, where browsers use no passkey of it.
    </p>
  {:else}
    <p class="help">
      They do not work here: Neat Latch is opened by an IP address, and browsers make passkeys for
      names only. Its operator can give it a name.
    </p>
  {/if}
  {#if who.second_factor}
    <h3 class="mt-3 font-bold">Recovery codes</h3>
    <p>
      {who.recovery_left} of 10 are left.
      <button class="act ms-2" onclick={() => open('recovery')}>Create new codes</button>
    </p>
    {#if doing === 'recovery'}{@render ask()}{/if}
  {/if}
  {#if codes.length}<RecoveryCodes {codes} done={() => (codes = [])} />{/if}
</section>
