<script lang="ts">
  import { api, ok, type Connection } from '../../api/client'
  import { acting } from '../../lib/acting.svelte'
  import OwnerField from '../../lib/OwnerField.svelte'
  import ProblemBox from '../../lib/ProblemBox.svelte'
  import { may } from '../../lib/session.svelte'

  let { connection }: { connection: Connection } = $props()
  const acts = acting('connection', 'user')
  const EMPTY = { name: '', kind: 'job', owner: '', runs: '', operations: [] as string[] }
  let adding = $state(false)
  let form = $state({ ...EMPTY })
  const errors = $derived(acts.errors)

  async function add(event: Event): Promise<void> {
    event.preventDefault()
    const params = { path: { ref: connection.ref } }
    await acts.run(async () => {
      await ok(api.POST('/api/connections/{ref}/users', { params, body: form }))
      form = { ...EMPTY }
      adding = false
    })
  }
  async function takeOff(id: number): Promise<void> {
    const params = { path: { ref: connection.ref, identity: id } }
    await acts.run(() => ok(api.DELETE('/api/connections/{ref}/users/{identity}', { params })))
  }
</script>

<section class="sheet p-4" aria-labelledby="users-title" id="users" tabindex="-1">
  <header class="flex items-baseline">
    <h2 id="users-title">Used by</h2>
    {#if may('change')}<button class="act ms-auto" onclick={() => (adding = !adding)}
        >{adding ? 'Leave it' : 'Add a user'}</button
      >{/if}
  </header>
  {#each connection.users_of as user (user.id)}
    <div
      class="group flex min-h-[26px] items-baseline gap-3"
      title="{user.kind}, {user.owner || 'no owner noted'}: {user.operations.join(', ')}"
    >
      <a class="hover:underline" href="/users/{user.user}">{user.name}</a>
      <span class="ms-auto text-end {user.lacks.length ? 'text-error font-semibold' : 'text-soft'}"
        >{user.lacks.length ? `needs ${user.lacks.join(' ')}` : user.runs || user.kind}</span
      >
      {#if may('change')}<button
          class="text-soft min-h-[24px] min-w-[24px]"
          aria-label="Take {user.name} off"
          onclick={() => takeOff(user.id)}>×</button
        >{/if}
    </div>
  {:else}<p class="help">
      Nobody is noted. Say which jobs and reports use it, and what would stop is known.
    </p>{/each}
  {#if adding}
    <form class="mt-2 flex flex-col gap-2" onsubmit={add}>
      <input
        class="line-in"
        aria-label="Name of the user"
        placeholder="Night manifest run"
        bind:value={form.name}
      />
      {#if errors.name}<p role="alert" class="text-error font-semibold">{errors.name}</p>{/if}
      <div class="flex gap-2">
        <select class="line-in" aria-label="Kind" bind:value={form.kind}
          >{#each ['job', 'report', 'script', 'agent'] as kind (kind)}<option>{kind}</option
            >{/each}</select
        >
        <input
          class="line-in"
          aria-label="When it runs"
          placeholder="02:10 daily"
          bind:value={form.runs}
        />
      </div>
      <OwnerField id="user-owner" label="Owner" placeholder="owner" bind:value={form.owner} />
      {#each connection.operations as operation (operation)}
        <label class="flex min-h-[24px] items-center gap-2"
          ><input type="checkbox" value={operation} bind:group={form.operations} />
          <span class="value">{operation}</span></label
        >
      {/each}
      <button class="btn btn-primary btn-sm">Add</button>
    </form>
  {/if}
  <ProblemBox problem={acts.problem} />
</section>
