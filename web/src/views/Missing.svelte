<h1>There is no such page</h1>
<p class="my-2">It may have been renamed or taken away.</p>
<a class="act" href="/">To Today</a>
